"""Rules about what groups of ports carry together: no poll knows a whole group, so its sums are looked at a little later."""

import asyncio
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta

import numpy as np
from django.db import transaction
from django.utils import timezone

from lumtar.core.alarms.facts import Ended
from lumtar.core.alarms.severity import Severity
from lumtar.core.measures import measure_of
from lumtar.core.measures.groups import Totals
from lumtar.domain.alarms.exceptions import narrowed
from lumtar.domain.alarms.memory import NO_DEVICE
from lumtar.domain.alarms.models import Alarm, Evaluation, Rule
from lumtar.domain.alarms.rules import in_force
from lumtar.domain.alarms.services import Transition, apply
from lumtar.domain.inventory.models import Group
from lumtar.domain.inventory.resources import GROUP
from lumtar.domain.operation.services import announce
from lumtar.domain.readings import group_totals
from lumtar.domain.readings.group_totals import MINUTE_S, Steps
from lumtar.engine.batch import Batch
from lumtar.engine.service import with_database
from lumtar.engine.stored_rules import brought_back, keep_memory
from lumtar.engine.watching import Scopes, Watch

EVERY_S = 15.0
SETTLED = timedelta(seconds=20)
"""So long after its end a step is looked at: by then its readings are stored, unless the database was away."""
LONGEST_BACK = timedelta(hours=1)
"""After a longer break, what was before is left out: it is too late to call anybody for it."""


class GroupRules:
    """Looks at what groups carried since the last time, until cancelled."""

    async def run(self) -> None:
        """Work until cancelled."""
        while True:
            await asyncio.to_thread(with_database, look)
            await asyncio.sleep(EVERY_S)


@transaction.atomic
def look(now: datetime | None = None) -> list[int]:
    """Evaluate rules about groups over the steps that ended since the last look. Returns the alarms that changed.

    All of it is one transaction: whoever is killed in it leaves the steps to the next look.
    """
    rules = [rule for rule in in_force() if measure_of(rule.measure).subject == GROUP]
    changed = _end_deleted(now or timezone.now())
    if not rules:
        return changed
    until = (now or timezone.now()) - SETTLED
    # Two services take turns here, and the later one finds nothing left to do.
    before, is_new = Evaluation.objects.select_for_update().get_or_create(subject=GROUP, defaults={"until": until})
    if is_new or until.timestamp() // MINUTE_S <= before.until.timestamp() // MINUTE_S:
        # No step of any group has ended since.
        return changed
    since, scopes = max(before.until, until - LONGEST_BACK), narrowed(rules)
    groups = _meant(rules, scopes)
    batch = Batch()
    _evaluate(
        _watch(rules, scopes, groups, since), batch, {pk: group_totals.of_group(pk, since, until) for pk in groups}
    )
    changed += apply(batch.transitions)
    keep_memory(batch)
    before.until = until
    before.save(update_fields=["until"])
    if changed:
        announce("alarms", changed)
    return changed


def _meant(rules: Sequence[Rule], scopes: Scopes) -> list[int]:
    """The groups that any of the rules is about, or was when it raised an alarm that is active."""
    meant = set(Alarm.objects.filter(resource_kind=GROUP, is_cleared=False).values_list("resource_id", flat=True))
    only = [scopes[rule.pk].only if rule.pk in scopes else None for rule in rules]
    wanted = Group.objects.order_by("pk").values_list("pk", flat=True)
    if None in only:
        return list(wanted)
    return list(wanted.filter(pk__in=meant.union(*(each for each in only if each is not None))))


def _watch(rules: Sequence[Rule], scopes: Scopes, groups: Sequence[int], since: datetime) -> Watch:
    """Rules, with what they remember from the last look."""
    watch = brought_back(GROUP, rules, scopes, groups, since)
    watch.recall(GROUP, groups, since.timestamp())
    if watch.kinds[GROUP].rules.references:
        watch.renew_baselines()
    return watch


def _evaluate(watch: Watch, batch: Batch, steps: Mapping[int, Steps]) -> None:
    """Look at the steps of all groups in the order of time."""
    for at in _ends(steps.values()):
        mine = [(pk, each, place) for pk, each in steps.items() if len(place := np.flatnonzero(each.at == at))]
        names = tuple(Totals.__dataclass_fields__)
        totals = Totals(
            *(np.concatenate([getattr(each.totals, name)[place] for _, each, place in mine]) for name in names)
        )
        n = len(mine)
        watch.look(
            batch,
            GROUP,
            totals,
            np.full(n, at),
            np.array([float(each.step_s) for _, each, _ in mine]),
            numbers=np.array([pk for pk, _, _ in mine], np.int64),
            owners=np.full(n, NO_DEVICE),
        )


def _ends(steps: Iterable[Steps]) -> list[float]:
    return sorted({at for each in steps for at in each.at.tolist()})


def _end_deleted(now: datetime) -> list[int]:
    """Clear the alarms of groups that were deleted."""
    rows = Alarm.objects.filter(resource_kind=GROUP, is_cleared=False)
    gone = rows.exclude(resource_id__in=Group.objects.values("pk"))
    return apply(
        Transition(
            GROUP, each.resource_id, each.type, each.qualifier, Severity.CLEARED, Ended("The group was deleted"), now
        )
        for each in gone
    )
