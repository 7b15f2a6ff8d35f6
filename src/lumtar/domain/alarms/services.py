"""Raising and clearing alarms, and having people called. Each call joins its caller's transaction."""

from collections.abc import Collection, Iterable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.db import connection, transaction
from django.db.models import Q
from django.dispatch import receiver
from django.utils import timezone

from lumtar.core.alarms.facts import Ended, Facts, stored
from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms import calls, causes, maintenance
from lumtar.domain.alarms.actions import quiet
from lumtar.domain.alarms.models import Alarm, AlarmChange
from lumtar.domain.inventory.signals import retired
from lumtar.domain.operation import resources
from lumtar.domain.operation.resources import Named
from lumtar.domain.operation.services import announce

Key = tuple[str, int, str, str]
"""Kind and number of the resource, type, qualifier: what identifies an alarm."""


@dataclass(frozen=True, slots=True)
class Transition:
    """An alarm is raised (or its severity changes) or cleared.

    Attributes
    ----------
    kind, resource, type, qualifier : identify the alarm
    device : that the resource belongs to; None if to none
    rule, armed : that decided, and how often it had been switched on by then (0: that does not matter); None if no rule did
    plan : the call plan of the rule; None calls nobody
    is_told : whether those who were told that it was raised are told that it is cleared
    """

    kind: str
    resource: int
    type: str
    qualifier: str
    severity: Severity
    facts: Facts
    at: datetime
    device: int | None = None
    rule: int | None = None
    armed: int = 0
    plan: int | None = None
    is_told: bool = True

    @property
    def key(self) -> Key:
        """What identifies the alarm."""
        return self.kind, self.resource, self.type, self.qualifier


@dataclass(slots=True)
class _Changes:
    """What is to be written of many transitions."""

    alarms: dict[Key, Alarm] = field(default_factory=dict)
    steps: list[calls.Step] = field(default_factory=list)


@transaction.atomic
def apply(transitions: Iterable[Transition]) -> list[int]:
    """Carry out transitions in their order; one that changes nothing leaves no trace and tells nobody.

    However many they are, they cost a handful of statements.

    Returns
    -------
    ids of the alarms that changed
    """
    wanted = list(transitions)
    wanted = _by_rules_in_force(wanted)
    if not wanted:
        return []
    known = _locked({each.key for each in wanted})
    named = resources.named({(each.kind, each.resource) for each in wanted})
    changes = _Changes()
    for each in wanted:
        _change(changes, each, known, named.get((each.kind, each.resource)))
    _write(changes)
    return sorted({alarm.pk for alarm in changes.alarms.values()})


def _by_rules_in_force(wanted: list[Transition]) -> list[Transition]:
    """Without what a rule raised that was switched off, or off and on again, while its batch was on the way.

    The rows are locked against that: whoever ends a rule waits until what it raised is there, and clears it.
    """
    asked = {each.rule for each in wanted if each.rule is not None}
    if not asked:
        return wanted
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT id, armed FROM alarms_rule WHERE id = ANY(%s) AND enabled ORDER BY id FOR SHARE", [list(asked)]
        )
        armed = dict(cursor.fetchall())

    def is_in_force(each: Transition) -> bool:
        return each.rule in armed and each.armed in (0, armed[each.rule])

    return [each for each in wanted if each.severity is Severity.CLEARED or each.rule is None or is_in_force(each)]


def _locked(keys: Collection[Key]) -> dict[Key, Alarm]:
    """The alarms that are there already, locked."""
    kinds, numbers, types, qualifiers = (list(each) for each in zip(*keys, strict=True))
    with connection.cursor() as cursor:
        cursor.execute(
            """SELECT a.id FROM alarms_alarm a
            JOIN unnest(%s::text[], %s::bigint[], %s::text[], %s::text[]) AS wanted (kind, number, type, qualifier)
            ON a.resource_kind = wanted.kind AND a.resource_id = wanted.number AND a.type = wanted.type
                AND a.qualifier = wanted.qualifier ORDER BY a.id FOR UPDATE OF a""",
            [kinds, numbers, types, qualifiers],
        )
        locked = Alarm.objects.in_bulk([row[0] for row in cursor.fetchall()])
    return {(each.resource_kind, each.resource_id, each.type, each.qualifier): each for each in locked.values()}


def _change(changes: _Changes, wanted: Transition, known: dict[Key, Alarm], named: Named | None) -> None:
    alarm = known.get(wanted.key)
    clears = wanted.severity is Severity.CLEARED
    is_active = alarm is not None and not alarm.is_cleared
    if clears and not is_active:
        return
    if alarm is not None and is_active and not clears and alarm.severity == wanted.severity:
        return
    if not clears and (named is None or not named.is_in_use):
        # Deleted or retired while its poll was on the way.
        return
    if alarm is None:
        alarm = known[wanted.key] = Alarm(
            resource_kind=wanted.kind, resource_id=wanted.resource, type=wanted.type, qualifier=wanted.qualifier
        )
    if named is not None:
        alarm.label, alarm.site = named.label[:300], named.site[:120]
        alarm.device_id, alarm.interface_id = named.device, named.interface
    was = Severity(alarm.severity) if is_active else Severity.CLEARED
    if not clears:
        if not is_active:
            alarm.raised_at = wanted.at
        alarm.severity = int(wanted.severity)
    alarm.is_cleared, alarm.changed_at, alarm.rule_id = clears, wanted.at, wanted.rule
    changes.alarms[wanted.key] = alarm
    change = AlarmChange(alarm=alarm, at=wanted.at, severity=int(wanted.severity), facts=stored(wanted.facts))
    changes.steps.append(calls.Step(change, was, wanted.plan, wanted.is_told))


WRITTEN = ["label", "site", "device", "interface", "severity", "raised_at", "is_cleared", "changed_at", "rule"]


def _write(changes: _Changes) -> None:
    there = [alarm for alarm in changes.alarms.values() if alarm.pk is not None]
    Alarm.objects.bulk_create(alarm for alarm in changes.alarms.values() if alarm.pk is None)
    Alarm.objects.bulk_update(there, WRITTEN, batch_size=500)
    for step in changes.steps:
        # Assigned anew, so that the change knows the number that its alarm has by now, without looking it up.
        step.change.alarm = step.change.alarm
    AlarmChange.objects.bulk_create(step.change for step in changes.steps)
    now = timezone.now()
    raised = {
        step.change.alarm_id: step.change.alarm for step in changes.steps if step.change.severity and not step.was
    }
    maintenance.note(list(raised.values()), now)
    waits = {**causes.flapping(raised, now), **causes.place(list(raised.values()), now)}
    calls.follow(changes.steps, quiet([step.change.alarm_id for step in changes.steps], now), waits)
    causes.release([step.change.alarm_id for step in changes.steps if not step.change.severity], now)


def clear(active: Q, reason: str, at: datetime, *, tell: bool = False) -> list[int]:
    """Clear the active alarms for which a condition holds, since nobody watches what they are about any more.

    Parameters
    ----------
    tell : those who were told that they were raised are told this as well
    """
    standing = list(Alarm.objects.filter(active, is_cleared=False))
    return apply(
        Transition(
            alarm.resource_kind,
            alarm.resource_id,
            alarm.type,
            alarm.qualifier,
            Severity.CLEARED,
            Ended(reason),
            at,
            alarm.device_id,
            alarm.rule_id,
            is_told=tell,
        )
        for alarm in standing
    )


@receiver(retired)
def clear_retired(sender: Any, *, device: int, at: datetime, **_: Any) -> None:
    """Clear every alarm that is active at a device that was retired; nobody is told, since somebody did it."""
    if changed := clear(Q(device_id=device), "Cleared: the device was retired", at):
        announce("alarms", changed)
