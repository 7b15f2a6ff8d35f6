"""What follows from what: a device hangs on others, and behind those that do not answer nothing else is news.

Who hangs on whom is set by hand (Device.hangs_on); one of several ways is enough. Alarms of a device that is cut off, and all
other alarms of one that does not answer itself, are consequences: recorded with the reason, and nobody is called for them.
"""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db.models import Count, F, Q

from lumtar.domain.alarms import calls
from lumtar.domain.alarms.models import Alarm, Consequence, alarm_type
from lumtar.domain.inventory.models import Device, DeviceState
from lumtar.domain.operation.services import announce

UNREACHABLE = alarm_type("unanswered")
UNDECIDED = timedelta(seconds=90)
"""While it is not known yet whether what a device hangs on answers, nobody is called for it."""
SETTLING = timedelta(seconds=120)
"""What followed from something that is over has so long to end by itself before anybody is called for it."""
FLAPPING, WITHIN, CALM = 5, timedelta(hours=1), timedelta(minutes=10)
"""Raised so often within such a time an alarm flaps: it is called for again once it stays active for so long."""
BLIND_SHARE, BLIND_DEVICES = 0.8, 5
"""If so large a share of at least so many devices is silent at once, it is likely Lumtar that does not see them."""


@dataclass(frozen=True, slots=True)
class Cause:
    """The alarm that explains others, and why."""

    alarm: int
    reason: str


def place(raised: Sequence[Alarm], now: datetime) -> dict[int, datetime | None]:
    """Put alarms that are raised now under their causes, and what is active already under them.

    Returns
    -------
    alarms that call nobody for now, and until when; None is until their cause is over
    """
    mine = [alarm for alarm in raised if alarm.device_id is not None]
    if not mine:
        return {}
    ways = _ways()
    silent = {alarm.device_id for alarm in mine if alarm.type == UNREACHABLE and alarm.device_id is not None}
    below = _closure(silent, _turned(ways))
    failed = _failed(_closure(below | {alarm.device_id for alarm in mine if alarm.device_id is not None}, ways))
    found = _causes(mine, ways, failed)
    if silent:
        # What was raised before its cause was known.
        placed = Consequence.objects.filter(ended_at=None).values("alarm_id")
        earlier = Alarm.objects.filter(is_cleared=False, device_id__in=below).exclude(pk__in=placed)
        found |= _causes(earlier.exclude(pk__in=[alarm.pk for alarm in mine]), ways, failed)
    _keep(found, now)
    calls.hold([pk for pk in found if pk not in {alarm.pk for alarm in mine}], None)
    waits: dict[int, datetime | None] = dict.fromkeys(found)
    undecided = [alarm for alarm in mine if alarm.pk not in found and alarm.type == UNREACHABLE]
    if undecided:
        waits |= dict.fromkeys(_undecided(undecided, ways), now + UNDECIDED)
    return waits


Ways = Mapping[int, Collection[int]]
"""Device -> the devices that it hangs on."""


def _ways() -> dict[int, set[int]]:
    ways: dict[int, set[int]] = {}
    for device, carrier in Device.hangs_on.through._default_manager.values_list("from_device_id", "to_device_id"):
        ways.setdefault(device, set()).add(carrier)
    return ways


def _turned(ways: Ways) -> dict[int, set[int]]:
    carried: dict[int, set[int]] = {}
    for device, carriers in ways.items():
        for carrier in carriers:
            carried.setdefault(carrier, set()).add(device)
    return carried


def _closure(devices: Collection[int], ways: Ways) -> set[int]:
    """Devices, and all that can be reached from them."""
    reached, waiting = set(devices), list(devices)
    while waiting:
        more = set(ways.get(waiting.pop(), ())) - reached
        reached |= more
        waiting += more
    return reached


def _failed(devices: Collection[int]) -> dict[int, Alarm]:
    """Those of some devices that do not answer, and the alarms that say so."""
    active = Alarm.objects.filter(type=UNREACHABLE, is_cleared=False, device_id__in=devices).order_by("raised_at", "pk")
    return {alarm.device_id: alarm for alarm in active if alarm.device_id is not None}


def _causes(alarms: Iterable[Alarm], ways: Ways, failed: Mapping[int, Alarm]) -> dict[int, Cause]:
    found: dict[int, Cause] = {}
    for alarm in alarms:
        if alarm.device_id is None:
            continue
        if root := _root(alarm.device_id, ways, failed):
            cause = failed[root]
            if cause.pk != alarm.pk:
                found[alarm.pk] = Cause(cause.pk, f"It is reached by way of {cause.label}, which does not answer")
        elif (own := failed.get(alarm.device_id)) is not None and own.pk != alarm.pk:
            found[alarm.pk] = Cause(own.pk, "The device itself does not answer")
    return found


def _root(device: int, ways: Ways, failed: Mapping[int, Alarm]) -> int | None:
    """The failed device that cuts one off, the one farthest up; None if it is not cut off.

    It is cut off if each of the devices that it hangs on has failed, or is cut off itself. A circle is no way.
    """
    known: dict[int, int | None] = {}

    def cut(here: int, path: frozenset[int]) -> int | None:
        if here in known:
            return known[here]
        roots: list[int] = []
        for each in sorted(set(ways.get(here, ())) - path):
            above = cut(each, path | {each})
            if above is None and each not in failed:
                roots = []
                break
            roots.append(above if above is not None else each)
        known[here] = roots[0] if roots else None
        return known[here]

    return cut(device, frozenset({device}))


def _keep(found: Mapping[int, Cause], now: datetime) -> None:
    known = set(Consequence.objects.filter(alarm_id__in=found, ended_at=None).values_list("alarm_id", flat=True))
    Consequence.objects.bulk_create(
        Consequence(alarm_id=alarm, cause_id=cause.alarm, reason=cause.reason[:300], at=now)
        for alarm, cause in found.items()
        if alarm not in known
    )


def _undecided(alarms: Sequence[Alarm], ways: Ways) -> list[int]:
    """Those about silent devices of which what they hang on, or nearly everything else, is silent too without being an alarm yet."""
    silent = DeviceState.objects.filter(silent_polls__gt=0, device__enabled=True, device__retired_at=None)
    counted = DeviceState.objects.filter(device__enabled=True, device__retired_at=None).aggregate(
        known=Count("pk"), silent=Count("pk", filter=Q(silent_polls__gt=0))
    )
    if counted["known"] >= BLIND_DEVICES and counted["silent"] >= BLIND_SHARE * counted["known"]:
        return [alarm.pk for alarm in alarms]
    carriers = {alarm.pk: set(ways.get(alarm.device_id or 0, ())) for alarm in alarms}
    all_carriers = set().union(*carriers.values())
    quiet = (
        set(silent.filter(device_id__in=all_carriers).values_list("device_id", flat=True)) if all_carriers else set()
    )
    return [pk for pk, mine in carriers.items() if mine and mine <= quiet]


def release(cleared: Sequence[int], now: datetime) -> None:
    """What followed from alarms that are cleared now stands by itself again, and is called for unless it ends soon."""
    Consequence.objects.filter(alarm_id__in=cleared, ended_at=None).update(ended_at=now)
    left = Consequence.objects.filter(cause_id__in=cleared, ended_at=None)
    alarms = list(Alarm.objects.filter(causes__in=left).distinct())
    if not alarms:
        return
    left.update(ended_at=now)
    ways = _ways()
    around = _closure({alarm.device_id for alarm in alarms if alarm.device_id is not None}, ways)
    again = _causes([alarm for alarm in alarms if not alarm.is_cleared], ways, _failed(around))
    _keep(again, now)
    calls.resume([alarm.pk for alarm in alarms if not alarm.is_cleared and alarm.pk not in again], now + SETTLING)


def flapping(alarms: Collection[int], now: datetime) -> dict[int, datetime]:
    """Those of some alarms that were raised again and again lately, and when they are called for if they stay active."""
    if not alarms:
        return {}
    lately = Q(changes__at__gt=now - WITHIN, changes__severity=0)
    counted = Alarm.objects.filter(pk__in=alarms).annotate(ended=Count("changes", filter=lately))
    return {alarm.pk: now + CALM for alarm in counted if alarm.ended >= FLAPPING - 1}


def explain(alarms: Sequence[int], cause: Cause, now: datetime) -> list[int]:
    """Put alarms that stand by themselves under a cause; which they were. What was taken from under it stays where it is."""
    was_told = Q(cause_id=cause.alarm, at__gte=F("alarm__raised_at"))
    known = Consequence.objects.filter(Q(ended_at=None) | was_told, alarm_id__in=alarms)
    placed = set(known.values_list("alarm_id", flat=True))
    new = [alarm for alarm in alarms if alarm not in placed and alarm != cause.alarm]
    _keep(dict.fromkeys(new, cause), now)
    calls.hold(new, None)
    return new


def overrule(alarm: int, now: datetime) -> bool:
    """Somebody says that an alarm does not follow from another one: it stands by itself, and is called for."""
    ended = Consequence.objects.filter(alarm_id=alarm, ended_at=None).update(ended_at=now)
    if ended:
        calls.resume([alarm], now)
        announce("alarms", [alarm])
    return bool(ended)
