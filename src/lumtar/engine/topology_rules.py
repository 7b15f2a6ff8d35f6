"""Rules about links and bridges: looked at by the worker once a minute, from what all devices told last."""

import asyncio
from collections.abc import Callable, Iterable
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import transaction
from django.utils import timezone
from numpy.typing import NDArray

from lumtar.core.measures import measure_of
from lumtar.core.measures.links import BRIDGE, LINK
from lumtar.domain.alarms.exceptions import narrowed
from lumtar.domain.alarms.memory import NO_DEVICE
from lumtar.domain.alarms.models import Alarm, Evaluation
from lumtar.domain.alarms.rules import in_force
from lumtar.domain.alarms.services import apply
from lumtar.domain.operation.services import announce
from lumtar.domain.reports.link_states import bridges_now, links_now
from lumtar.engine.batch import Batch
from lumtar.engine.service import with_database
from lumtar.engine.stored_rules import brought_back, keep_memory

EVERY_S = 10.0
STEP = timedelta(minutes=1)
OBSERVE: dict[str, Callable[[datetime, Iterable[int]], tuple[NDArray[np.int64], Any]]] = {
    LINK: links_now,
    BRIDGE: bridges_now,
}


class TopologyRules:
    """Looks at links and bridges until cancelled."""

    async def run(self) -> None:
        """Work until cancelled."""
        while True:
            await asyncio.to_thread(with_database, look)
            await asyncio.sleep(EVERY_S)


@transaction.atomic
def look(now: datetime | None = None) -> list[int]:
    """Evaluate the rules about links and bridges, if a minute has passed since the last time. Returns the alarms that changed."""
    now, changed = now or timezone.now(), list[int]()
    for kind, observe in OBSERVE.items():
        rules = [rule for rule in in_force() if measure_of(rule.measure).subject == kind]
        active = set(Alarm.objects.filter(resource_kind=kind, is_cleared=False).values_list("resource_id", flat=True))
        if not rules and not active:
            continue
        # Two services take turns here, and the later one finds that it was done.
        before, is_new = Evaluation.objects.select_for_update().get_or_create(subject=kind, defaults={"until": now})
        if not is_new and before.until > now - STEP:
            continue
        numbers, frame = observe(now, active)
        batch = Batch()
        watch = brought_back(kind, rules, narrowed(rules), numbers.tolist(), before.until)
        n = len(numbers)
        if n:
            watch.look(
                batch, kind, frame, np.full(n, now.timestamp()), np.full(n, STEP.total_seconds()), numbers=numbers,
                owners=np.full(n, NO_DEVICE),
            )  # fmt: skip
        changed += apply(batch.transitions)
        keep_memory(batch)
        before.until = now
        before.save(update_fields=["until"])
    if changed:
        announce("alarms", changed)
    return changed
