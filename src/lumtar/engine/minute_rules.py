"""Rules about what is looked at once a minute: links and bridges as devices told of them last, traffic as exporters told of it."""

import asyncio
from collections.abc import Callable, Collection, Iterable, Sequence
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import transaction
from django.utils import timezone
from numpy.typing import NDArray

from lumtar.core.alarms.facts import Ended
from lumtar.core.alarms.severity import Severity
from lumtar.core.measures import measure_of
from lumtar.core.measures.controllers import CONTROLLER, CONTROLLER_ITEM
from lumtar.core.measures.links import BRIDGE, LINK
from lumtar.core.measures.paths import PATH
from lumtar.core.measures.traffic import FLOW_PORT, STRANGER, TRAFFIC
from lumtar.domain.alarms.exceptions import narrowed
from lumtar.domain.alarms.memory import NO_DEVICE
from lumtar.domain.alarms.models import Alarm, Evaluation, Rule
from lumtar.domain.alarms.rules import in_force
from lumtar.domain.alarms.services import Transition, apply
from lumtar.domain.controllers import causes
from lumtar.domain.controllers.observed import controllers_now, items_now
from lumtar.domain.flows.store import GRACE, complete_until
from lumtar.domain.operation.services import announce
from lumtar.domain.reports.frames import OF_KIND
from lumtar.domain.reports.link_states import bridges_now, links_now
from lumtar.domain.reports.path_frames import paths_now
from lumtar.domain.reports.watched_traffic import flow_ports_now, strangers_now, watched_now
from lumtar.engine.batch import Batch
from lumtar.engine.service import with_database
from lumtar.engine.stored_rules import brought_back, keep_memory
from lumtar.engine.watching import Watch

EVERY_S = 10.0
STEP = timedelta(minutes=1)
OBSERVE: dict[str, Callable[[datetime, Iterable[int]], tuple[NDArray[np.int64], Any]]] = {
    LINK: links_now,
    BRIDGE: bridges_now,
    TRAFFIC: watched_now,
    FLOW_PORT: flow_ports_now,
    STRANGER: strangers_now,
    PATH: paths_now,
    CONTROLLER: controllers_now,
    CONTROLLER_ITEM: items_now,
}
OF_FLOWS = (TRAFFIC, FLOW_PORT)
MOST_BACK = 10
"""Minutes of flows that are looked at after a break; what was before is too old to call anybody for it."""


class MinuteRules:
    """Looks at links, bridges and traffic until cancelled."""

    async def run(self) -> None:
        """Work until cancelled."""
        while True:
            await asyncio.to_thread(with_database, look)
            await asyncio.sleep(EVERY_S)


def look(now: datetime | None = None) -> list[int]:
    """Evaluate the rules about each kind, if a minute has passed since the last time. Returns the alarms that changed.

    Each kind is a transaction of its own: what goes wrong with one does not undo another.
    """
    now, rules = now or timezone.now(), in_force()
    changed = [
        alarm
        for kind in OBSERVE
        for alarm in _look_at(kind, [rule for rule in rules if measure_of(rule.measure).subject == kind], now)
    ]
    # What explains an alarm may come after it.
    changed += causes.place(now)
    if changed:
        announce("alarms", changed)
    return changed


@transaction.atomic
def _look_at(kind: str, rules: Sequence[Rule], now: datetime) -> list[int]:
    active = set(Alarm.objects.filter(resource_kind=kind, is_cleared=False).values_list("resource_id", flat=True))
    if not rules and not active:
        return []
    # Two services take turns here, and the later one finds that it was done.
    before, is_new = Evaluation.objects.select_for_update().get_or_create(subject=kind, defaults={"until": now})
    looks = _looks(kind, now - STEP if is_new else before.until, now)
    if not looks:
        return []
    batch, watch = Batch(), None
    for at in looks:
        numbers, frame = OBSERVE[kind](at, active)
        ended = at - GRACE if kind in OF_FLOWS else at
        if watch is None:
            watch = brought_back(kind, rules, narrowed(rules), numbers.tolist(), before.until)
            _recall(watch, kind, numbers, ended)
        n = len(numbers)
        if n:
            watch.look(
                batch, kind, frame, np.full(n, ended.timestamp()), np.full(n, STEP.total_seconds()), numbers=numbers,
                owners=np.full(n, NO_DEVICE),
            )  # fmt: skip
    changed = apply(batch.transitions) + _end_gone(kind, active - set(numbers.tolist()), now)
    keep_memory(batch)
    before.until = now
    before.save(update_fields=["until"])
    return changed


def _looks(kind: str, before: datetime, now: datetime) -> list[datetime]:
    """When to look: now, if a minute has passed; at flows once for each minute that was completed since."""
    if kind not in OF_FLOWS:
        # Strangers are news at once; links and bridges are looked at by their devices every few minutes.
        return [now] if kind == STRANGER or now - before >= STEP else []
    newest = complete_until(now)
    number = min(MOST_BACK, round((newest - complete_until(before)) / STEP))
    return [newest + GRACE - back * STEP for back in reversed(range(number))]


def _recall(watch: Watch, kind: str, numbers: NDArray[np.int64], at: datetime) -> None:
    """What rules look back at, and compare with, of kinds whose values are kept."""
    if kind not in OF_KIND:
        return
    watch.recall(kind, numbers.tolist(), (at - STEP).timestamp())
    if watch.kinds[kind].rules.references:
        watch.renew_baselines()


def _end_gone(kind: str, gone: Collection[int], now: datetime) -> list[int]:
    """Clear the alarms of what is not there any more."""
    rows = Alarm.objects.filter(resource_kind=kind, resource_id__in=gone, is_cleared=False)
    return apply(
        Transition(
            kind,
            each.resource_id,
            each.type,
            each.qualifier,
            Severity.CLEARED,
            Ended("This is not watched any more"),
            now,
        )
        for each in rows
    )
