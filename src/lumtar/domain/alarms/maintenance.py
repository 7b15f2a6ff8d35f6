"""Maintenance: alarms of a part of the network are recorded, and nobody is called until it is over.

An alarm that is raised within one gets an action that says so, with its end; from there on it is treated like one that somebody
shelved until then. What is still active at the end is told then.
"""

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import Any

from dateutil.rrule import rrulestr
from django.db import connection, transaction
from django.db.models import Q
from django.utils import timezone

from lumtar.core.calling import zone_of
from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import calls
from lumtar.domain.alarms.actions import acknowledged, quiet
from lumtar.domain.alarms.models import Alarm, AlarmAction, Maintenance
from lumtar.domain.inventory.groups import in_group
from lumtar.domain.inventory.models import Device, Group, Interface, Site
from lumtar.domain.inventory.resources import GROUP
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark
from lumtar.domain.operation.services import announce

LONGEST = timedelta(days=31)
MOST_SPANS = 2000
PARTS = {"sites": Site, "groups": Group, "devices": Device, "interfaces": Interface}


@dataclass(frozen=True, slots=True)
class MaintenanceSpec:
    """What people say of a maintenance: a first time, how it repeats (a recurrence rule of RFC 5545), and of what."""

    name: str
    start: datetime
    end: datetime
    reason: str = ""
    repeats: str = ""
    zone: str = "UTC"
    sites: Sequence[int] = ()
    groups: Sequence[int] = ()
    devices: Sequence[int] = ()
    interfaces: Sequence[int] = ()


Span = tuple[datetime, datetime]


def spans(start: datetime, end: datetime, repeats: str, zone: str, since: datetime, until: datetime) -> list[Span]:
    """The occurrences that touch a time, at most so many; they begin at the same clock on the wall.

    Raises
    ------
    Refusal
    """
    length = end - start
    if not repeats.strip():
        return [(start, end)] if start < until and end > since else []
    local = zone_of(zone)
    first = start.astimezone(local).replace(tzinfo=None)
    rule = _understood(repeats, first)
    begin, stop = ((at.astimezone(local).replace(tzinfo=None)) for at in (since - length, until))
    found: list[Span] = []
    for each in rule.xafter(begin, inc=True):
        begins = each.replace(tzinfo=local).astimezone(UTC)
        if each >= stop or len(found) == MOST_SPANS:
            break
        if begins + length > since:
            found.append((begins, begins + length))
    return found


def _understood(repeats: str, first: datetime) -> Any:
    words = repeats.strip().upper().removeprefix("RRULE:")
    if any(f"FREQ={each}" in words for each in ("SECONDLY", "MINUTELY", "HOURLY")):
        raise Refusal("A maintenance repeats daily or more seldom.", "repeats")
    if "\n" in words or "DTSTART" in words or "EXRULE" in words:
        raise Refusal("Write one recurrence rule, like FREQ=WEEKLY;BYDAY=SU.", "repeats")
    try:
        return rrulestr(words, dtstart=first, ignoretz=True)
    except (ValueError, TypeError, KeyError, IndexError, AttributeError) as error:
        raise Refusal(
            f"“{repeats[:80]}” is no recurrence rule; write one like FREQ=WEEKLY;BYDAY=SU.", "repeats"
        ) from error


def _of(row: Maintenance, since: datetime, until: datetime) -> list[Span]:
    return spans(row.start, row.end, row.repeats, row.zone, since, until)


@dataclass(frozen=True, slots=True)
class Occurrence:
    """One time of a maintenance."""

    maintenance: Maintenance
    start: datetime
    end: datetime


def calendar(since: datetime, until: datetime) -> list[Occurrence]:
    """All occurrences that touch a time, in their order."""
    rows = Maintenance.objects.prefetch_related("sites", "groups", "devices", "interfaces__device")
    found = [Occurrence(row, *span) for row in rows for span in _of(row, since, until)]
    return sorted(found, key=lambda each: (each.start, each.maintenance.name))


@transaction.atomic
def save(spec: MaintenanceSpec, by: str, pk: int | None = None, edition: int = 0) -> Maintenance:
    """Keep a new maintenance or a changed one; one that goes on is begun anew, with what it is about now.

    Raises
    ------
    Refusal, Stale, Maintenance.DoesNotExist
    """
    now = timezone.now()
    _check(spec, now)
    row = Maintenance() if pk is None else claim(Maintenance, pk, edition)
    if pk is not None:
        _release(row, by)
    # Recurrence rules know whole seconds.
    row.start, row.end, row.zone = spec.start.replace(microsecond=0), spec.end.replace(microsecond=0), spec.zone
    row.name, row.reason, row.repeats = spec.name.strip(), spec.reason.strip(), spec.repeats.strip()
    _move_on(row, now)
    mark(row, by)
    for name in PARTS:
        getattr(row, name).set(getattr(spec, name))
    note_action(f"maintenance {row.name} {'created' if pk is None else 'changed'}", by)
    begin_due(now)
    announce("maintenance")
    return row


def _check(spec: MaintenanceSpec, now: datetime) -> None:
    if not 1 <= len(spec.name.strip()) <= 120:
        raise Refusal("A maintenance's name has 1 to 120 characters.", "name")
    if not timedelta() < spec.end - spec.start <= LONGEST:
        raise Refusal(f"A maintenance ends after it begins, at most {LONGEST.days} days later.", "end")
    zone_of(spec.zone)
    if not any(getattr(spec, name) for name in PARTS):
        raise Refusal("Say what it is about: sites, groups, devices or ports.", "sites")
    for name, model in PARTS.items():
        wanted = getattr(spec, name)
        there = set(model._default_manager.filter(pk__in=wanted).values_list("pk", flat=True))
        if missing := [number for number in wanted if number not in there]:
            raise Refusal(
                f"There is no {model._meta.verbose_name} {missing[0]}; it may have been deleted meanwhile.", name
            )
    coming = spans(spec.start, spec.end, spec.repeats, spec.zone, now, now + timedelta(days=3660))
    if not coming:
        raise Refusal("It lies in the past, and does not come again.", "end")
    if any(later[0] < earlier[1] for earlier, later in pairwise(coming)):
        raise Refusal("It is longer than the time until it comes again.", "repeats")


def _move_on(row: Maintenance, now: datetime) -> None:
    """Note the occurrence that goes on or comes next."""
    coming = _of(row, now, now + timedelta(days=3660))
    row.span_start, row.span_end = coming[0] if coming else (None, None)
    row.is_begun = False


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a maintenance; what it kept quiet is told from now on.

    Raises
    ------
    Maintenance.DoesNotExist
    """
    row = Maintenance.objects.select_for_update().get(pk=pk)
    _release(row, by)
    row.delete()
    note_action(f"maintenance {row.name} deleted", by)
    announce("maintenance")


def _release(row: Maintenance, by: str) -> None:
    """What a maintenance keeps quiet now is not any more."""
    now = timezone.now()
    kept = set(
        AlarmAction.objects.filter(maintenance=row, until__gt=now, kind=AlarmAction.Kind.MAINTENANCE).values_list(
            "alarm_id", flat=True
        )
    )
    alarms = list(Alarm.objects.filter(pk__in=quiet(kept, now)))
    AlarmAction.objects.bulk_create(
        AlarmAction(alarm=alarm, at=now, by=by[:150], kind=AlarmAction.Kind.UNSHELVE, severity=alarm.severity,
                    text=f"The maintenance {row.name} was changed")
        for alarm in alarms
    )  # fmt: skip
    numbers = {alarm.pk for alarm in alarms}
    calls.resume(numbers - acknowledged(numbers, now))
    announce("alarms", sorted(numbers))


def note(alarms: Sequence[Alarm], now: datetime) -> None:
    """Say of alarms that are raised now which of them lie in a maintenance. In the transaction that raises them."""
    for row in _running(now) if alarms else ():
        _keep_quiet(row, alarms, now)


def _running(now: datetime) -> list[Maintenance]:
    return list(Maintenance.objects.filter(span_start__lte=now, span_end__gt=now).order_by("span_end"))


def _keep_quiet(row: Maintenance, alarms: Sequence[Alarm], now: datetime) -> list[int]:
    """Those of some alarms that a maintenance is about are quiet until its end; which they are."""
    covered = _covered(row, alarms)
    already = quiet([alarm.pk for alarm in covered], now)
    end = row.span_end or now
    # One that lasts longer, or that somebody shelved until it is cleared, keeps it quiet anyway.
    mine = [a for a in covered if a.pk not in already or ((until := already[a.pk]) is not None and until < end)]
    AlarmAction.objects.bulk_create(
        AlarmAction(
            alarm=alarm, at=now, by=row.name, kind=AlarmAction.Kind.MAINTENANCE, text=row.reason, until=end,
            maintenance=row, severity=alarm.severity,
        )
        for alarm in mine
    )  # fmt: skip
    return [alarm.pk for alarm in mine]


def _covered(row: Maintenance, alarms: Sequence[Alarm]) -> list[Alarm]:
    if not alarms:
        return []
    devices = set(row.devices.values_list("pk", flat=True))
    if sites := list(row.sites.values_list("pk", flat=True)):
        of_alarms = {alarm.device_id for alarm in alarms if alarm.device_id is not None}
        devices |= set(Device.objects.filter(pk__in=of_alarms, site__in=sites).values_list("pk", flat=True))
    ports = set(row.interfaces.values_list("pk", flat=True))
    groups = {group.pk for group in row.groups.all()}
    for group in groups:
        whole, some = _of_group(group, {alarm.interface_id for alarm in alarms if alarm.interface_id})
        devices |= whole
        ports |= some
    return [
        alarm
        for alarm in alarms
        if alarm.device_id in devices
        or alarm.interface_id in ports
        or (alarm.resource_kind == GROUP and alarm.resource_id in groups)
    ]


def _of_group(group: int, ports: Collection[int]) -> tuple[set[int], set[int]]:
    """The devices that were put into a group as a whole, and those of some ports that are in it."""
    values: dict[str, Any] = {}
    inside = in_group(group, values)
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT g.id FROM ({inside}) g WHERE g.id = ANY(%(ports)s)", {**values, "ports": list(ports)})
        some = {int(row[0]) for row in cursor.fetchall()}
    return set(Device.objects.filter(groups=group).values_list("pk", flat=True)), some


def begin_due(now: datetime) -> None:
    """Begin what begins: what is active already is quiet from now on. And note what comes next after what is over."""
    with transaction.atomic():
        rows = Maintenance.objects.select_for_update(of=("self",), skip_locked=True)
        for row in rows.filter(Q(span_end__lte=now) | Q(span_start__lte=now, is_begun=False)):
            if row.span_end is not None and row.span_end <= now:
                _move_on(row, now)
            if row.span_start is not None and row.span_start <= now and not row.is_begun:
                alarms = list(Alarm.objects.filter(is_cleared=False))
                held = _keep_quiet(row, alarms, now)
                active = set(held) - acknowledged(held, now) if held else set()
                calls.hold(active, row.span_end)
                row.is_begun = True
                announce("alarms", held)
            row.save(update_fields=["span_start", "span_end", "is_begun"])
            announce("maintenance")


def parts_of(row: Maintenance) -> Iterable[str]:
    """What a maintenance is about, in words."""
    yield from (f"site {each.name}" for each in row.sites.all())
    yield from (f"group {each.name}" for each in row.groups.all())
    yield from (each.name for each in row.devices.all())
    yield from (f"{each.device.name} {each.label}" for each in row.interfaces.all())
