"""Following call plans: who is told of which change, step by step, until somebody acknowledges.

What is due follows from the rows of Call; each of them is moved on in the transaction in which its notifications are written.
"""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import connection, transaction
from django.utils import timezone

from lumtar.core.alarms.severity import Severity
from lumtar.core.calling import Hours
from lumtar.domain.alarms.models import AlarmChange, Call, Notification
from lumtar.domain.calling import plans
from lumtar.domain.calling.models import Address
from lumtar.domain.calling.plans import Plan
from lumtar.domain.operation.services import announce

Quiet = Mapping[int, datetime | None]
"""Alarms that call nobody, and until when; None is until something else happens."""
AT_ONCE = 500
"""Calls that are moved on in one transaction."""


@dataclass(frozen=True, slots=True)
class Step:
    """A status change as calling sees it.

    Attributes
    ----------
    was : severity before; cleared if it was not active
    plan : of the rule, when it is raised or gets worse; None calls nobody
    is_told : whether those who were told that it was raised are told that it cleared
    """

    change: AlarmChange
    was: Severity
    plan: int | None
    is_told: bool = True

    @property
    def is_worse(self) -> bool:
        """Raised, or worse than before."""
        return self.change.severity > self.was


def follow(steps: Sequence[Step], quiet: Quiet, waits: Quiet) -> None:
    """What follows from status changes, in their order.

    Parameters
    ----------
    quiet : alarms that somebody keeps quiet, and until when; None is until they are cleared
    waits : alarms for which nobody is called yet, since they follow from others or flap
    """
    for wave in _waves(steps):
        _begin([step for step in wave if step.is_worse and step.plan is not None], {**waits, **quiet})
        _end([step for step in wave if step.change.severity == Severity.CLEARED], quiet)


def _waves(steps: Sequence[Step]) -> list[list[Step]]:
    """The first changes of all alarms, then the second ones, and so on: within one nothing depends on another."""
    waves: list[list[Step]] = []
    seen: dict[int, int] = {}
    for step in steps:
        number = seen.get(step.change.alarm_id, 0)
        seen[step.change.alarm_id] = number + 1
        if number == len(waves):
            waves.append([])
        waves[number].append(step)
    return waves


def _begin(steps: Sequence[Step], quiet: Quiet) -> None:
    if not steps:
        return
    now = timezone.now()
    loaded = plans.load({step.plan for step in steps if step.plan is not None})
    told = _told_so_far([step.change.alarm_id for step in steps if step.was])
    calls = []
    for step in steps:
        plan = loaded.get(step.plan or 0)
        if plan is None or (step.was and not plan.row.on_worse):
            continue
        alarm = step.change.alarm_id
        first = now + timedelta(seconds=plan.calls[0].after_s) if plan.calls else None
        next_at = quiet.get(alarm, first)
        calls.append(Call(alarm_id=alarm, plan_id=plan.row.pk, change=step.change, position=0, next_at=next_at))
    # Whoever heard of it when it was milder hears that it is worse now.
    again = [
        _notification(call.change, address, 0, 0, now, Severity(call.change.severity))
        for call in calls
        if call.alarm_id not in quiet
        for address in told.get(call.alarm_id, ())
    ]
    Notification.objects.bulk_create(again, ignore_conflicts=True)
    _make_due(calls, loaded, now)
    Call.objects.bulk_create(
        calls,
        update_conflicts=True,
        unique_fields=["alarm"],
        update_fields=["plan", "change", "position", "next_at"],
    )


def _told_so_far(alarms: Collection[int]) -> dict[int, list[Address]]:
    """Who was told of some active alarms since they were raised."""
    if not alarms:
        return {}
    with connection.cursor() as cursor:
        cursor.execute(
            """SELECT DISTINCT a.id, n.address_id FROM alarms_alarm a
            JOIN alarms_alarmchange c ON c.alarm_id = a.id AND c.at >= a.raised_at
            JOIN alarms_notification n ON n.change_id = c.id
            JOIN calling_address d ON d.id = n.address_id AND d.enabled WHERE a.id = ANY(%s) ORDER BY 1, 2""",
            [list(alarms)],
        )
        rows = cursor.fetchall()
    addresses = Address.objects.select_related("contact").in_bulk({address for _, address in rows})
    told: dict[int, list[Address]] = {}
    for alarm, address in rows:
        told.setdefault(alarm, []).append(addresses[address])
    return told


def _notification(
    change: AlarmChange, address: Address, step: int, turn: int, now: datetime, severity: Severity
) -> Notification:
    contact = address.contact
    due = now
    if contact.quiet and Severity.CLEARED < severity < contact.quiet_from:
        due = Hours.of(contact.quiet, contact.zone).end_after(now) or now
    return Notification.to(address, change.pk, due, step, turn)


def _make_due(calls: Sequence[Call], loaded: dict[int, Plan], now: datetime) -> None:
    """Make all calls that are due, and move them on. A step that reaches nobody gives way to the next one at once."""
    notifications: list[Notification] = []
    reached: dict[tuple[int, int, int], plans.Reached] = {}
    for call in calls:
        plan = loaded[call.plan_id]
        severity = Severity(call.change.severity)
        while call.next_at is not None and call.next_at <= now and call.position < len(plan.calls):
            key = call.plan_id, call.position, int(severity)
            due = plan.calls[call.position]
            if key not in reached:
                reached[key] = plan.reached(due, now, severity)
            addresses = reached[key].addresses
            notifications += [
                _notification(call.change, address, due.step, due.round, now, severity) for address in addresses
            ]
            call.position += 1
            if call.position == len(plan.calls):
                call.next_at = None
            elif addresses:
                # From now on, not from when it was due: whoever was called late has the same time to acknowledge.
                call.next_at = now + timedelta(seconds=plan.calls[call.position].after_s - due.after_s)
    Notification.objects.bulk_create(notifications, ignore_conflicts=True, batch_size=5000)


def _keep(calls: Sequence[Call]) -> None:
    # One statement over arrays; a case a row would cost more than all the rest when thousands are called for at once.
    with connection.cursor() as cursor:
        cursor.execute(
            """UPDATE alarms_call SET position = moved.position, next_at = moved.next_at
            FROM unnest(%s::bigint[], %s::int[], %s::timestamptz[]) AS moved (id, position, next_at)
            WHERE alarms_call.id = moved.id""",
            [[call.pk for call in calls], [call.position for call in calls], [call.next_at for call in calls]],
        )


def _end(steps: Sequence[Step], quiet: Collection[int]) -> None:
    """Whoever heard of an alarm hears that it is over, unless it is quiet; what waited for the end of quiet hours is not sent any more."""
    if not steps:
        return
    now = timezone.now()
    alarms = [step.change.alarm_id for step in steps]
    Notification.objects.filter(change__alarm_id__in=alarms, message=None, due_at__gt=now).delete()
    silent = set(Call.objects.filter(alarm_id__in=alarms, plan__on_clear=False).values_list("alarm_id", flat=True))
    told = _told_so_far(
        [
            s.change.alarm_id
            for s in steps
            if s.is_told and s.change.alarm_id not in silent and s.change.alarm_id not in quiet
        ]
    )
    Notification.objects.bulk_create(
        (
            _notification(step.change, address, 0, 0, now, Severity.CLEARED)
            for step in steps
            for address in told.get(step.change.alarm_id, ())
        ),
        ignore_conflicts=True,
        batch_size=5000,
    )
    Call.objects.filter(alarm_id__in=alarms).delete()


def advance_due(now: datetime) -> int:
    """Make the calls that are due; how many alarms they were about. Several services may do so at once."""
    made = 0
    while True:
        with transaction.atomic():
            rows = Call.objects.select_for_update(of=("self",), skip_locked=True).select_related("change")
            calls = list(rows.filter(next_at__lte=now).order_by("next_at", "pk")[:AT_ONCE])
            if not calls:
                return made
            _make_due(calls, plans.load({call.plan_id for call in calls}), now)
            _keep(calls)
            announce("alarms", [call.alarm_id for call in calls])
        made += len(calls)


def hold(alarms: Collection[int], until: datetime | None) -> None:
    """Nobody is called any more for these, until a time or for good; somebody looks after them."""
    Call.objects.filter(alarm_id__in=alarms).update(next_at=until)


def resume(alarms: Iterable[int], at: datetime | None = None) -> None:
    """The calls of these go on, at once or at a time: nobody looks after them any more."""
    Call.objects.filter(alarm_id__in=list(alarms), alarm__is_cleared=False).update(next_at=at or timezone.now())


def remaining(alarm: int) -> Call | None:
    """How far the calling of an alarm has got; None if nobody is called for it."""
    return Call.objects.filter(alarm_id=alarm).select_related("plan").first()
