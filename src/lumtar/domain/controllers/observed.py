"""Controllers, and what they tell of, as rules look at them."""

from collections.abc import Iterable
from datetime import datetime

import numpy as np
from django.db.models import Count, F, Max, Q
from numpy.typing import NDArray

from lumtar.core.controllers import ALARM, DEVICE, POLICY
from lumtar.core.measures.controllers import ControllerItems, Controllers
from lumtar.domain.controllers.models import Controller, ControllerItem

Numbers = NDArray[np.int64]


def controllers_now(now: datetime, active: Iterable[int]) -> tuple[Numbers, Controllers]:
    """All controllers that are asked."""
    del now, active
    of_devices = Q(items__kind=DEVICE.name, items__gone_at=None)
    own = Q(items__kind=ALARM.name, items__about=None)
    rows = (
        Controller.objects.filter(enabled=True)
        .annotate(
            members=Count("items", filter=of_devices),
            missing=Count("items", filter=of_devices & Q(items__missed__gt=0)),
            severity=Max("items__severity", filter=own),
        )
        .order_by("pk")
    )
    listed = list(rows)
    says = _says(Q(about=None, controller__in=[row.pk for row in listed]), "controller_id")
    return np.array([row.pk for row in listed], "i8"), Controllers(
        failed=np.array([np.nan if row.asked_at is None else float(bool(row.problem)) for row in listed]),
        missing=np.array([100.0 * row.missing / row.members if row.members else np.nan for row in listed]),
        severity=np.array([float(row.severity or 0) for row in listed]),
        problem=tuple(row.problem for row in listed),
        says=tuple(says.get(row.pk, "") for row in listed),
    )


def items_now(now: datetime, active: Iterable[int]) -> tuple[Numbers, ControllerItems]:
    """Everything that controllers tell of but policies and alarms, with the severity of the alarms about it."""
    del now, active
    rows = (
        ControllerItem.objects.filter(gone_at=None, controller__enabled=True)
        .exclude(kind__in=[ALARM.name, POLICY.name])
        .annotate(worst=Max("alarms__severity"))
        .order_by("pk")
        .values_list("pk", "up", "worst", "facts__state")
    )
    listed = list(rows)
    says = _says(Q(about__in=[row[0] for row in listed if row[2]]), "about_id")
    return np.array([row[0] for row in listed], "i8"), ControllerItems(
        down=np.array([np.nan if up is None else float(not up) for _, up, _, _ in listed]),
        severity=np.array([float(worst or 0) for _, _, worst, _ in listed]),
        state=tuple(str(state or "") for *_, state in listed),
        says=tuple(says.get(row[0], "") for row in listed),
    )


def _says(where: Q, by: str) -> dict[int, str]:
    """The texts of the alarms that stand, the worst one last, so that it is the one that is kept."""
    standing = ControllerItem.objects.filter(where, kind=ALARM.name, severity__gt=0).order_by(
        "severity", F("since").desc()
    )
    return dict(standing.values_list(by, "name"))
