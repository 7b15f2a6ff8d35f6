"""What follows from what: behind devices that do not answer and links that are down nothing else is news.

Who hangs on whom is set by hand (Device.hangs_on), and else follows from the links between devices (over_links.py); one of several
ways is enough. Alarms of a device that is cut off, and all other alarms of one that does not answer itself, are consequences:
recorded with the reason, and nobody is called for them.
"""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db.models import Count, F, Q

from lumtar.domain.alarms import calls, over_links
from lumtar.domain.alarms.models import Alarm, Consequence, Overruled
from lumtar.domain.alarms.over_links import DOWN, OF_LINKS, UNREACHABLE, Standing
from lumtar.domain.inventory import polling
from lumtar.domain.inventory.models import Device, DeviceState
from lumtar.domain.operation.services import announce

BY_LINKS = (UNREACHABLE, DOWN)
"""Types of alarms that change what follows from what."""
ASKED = timedelta(seconds=20)
"""Devices that are polled at once have answered or failed by then."""
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
    known = over_links.standing(now, with_links=any(alarm.type in (*BY_LINKS, *OF_LINKS) for alarm in mine))
    by_links = _by_links(known)
    # What was raised before its cause was known is looked at again.
    placed = Consequence.objects.filter(ended_at=None).values("alarm_id")
    earlier = Alarm.objects.filter(is_cleared=False, device_id__in=below).exclude(pk__in=placed)
    every = [*mine, *earlier.exclude(pk__in=[alarm.pk for alarm in mine])] if below else mine
    found = _of_silent(every, known, by_links | _causes(every, ways, failed))
    kept = _keep(found, now, set(by_links))
    calls.hold([pk for pk in kept if pk not in {alarm.pk for alarm in mine}], None)
    waits: dict[int, datetime | None] = dict.fromkeys(kept)
    undecided = [alarm for alarm in mine if alarm.pk not in kept and alarm.type == UNREACHABLE]
    if undecided:
        waits |= _asked_first(undecided, known, now)
        waits |= dict.fromkeys(_undecided(undecided, ways), now + UNDECIDED)
    return waits


def _by_links(known: Standing) -> dict[int, Cause]:
    """What follows over the links, of all that is silent or down."""
    found = {alarm: Cause(cause, reason) for alarm, (cause, reason) in over_links.of_down_ports(known).items()}
    for failure, explanation in known.explained().items():
        alarm, cause = known.alarm(failure), known.alarm(explanation.cause)
        if alarm is not None and cause is not None:
            found[alarm.pk] = Cause(cause.pk, over_links.words(explanation, known))
    return found


def _of_silent(alarms: Iterable[Alarm], known: Standing, found: Mapping[int, Cause]) -> dict[int, Cause]:
    """What was found, and other alarms of devices that do not answer under what explains that."""
    silent = ((alarm.pk, known.silent.get(alarm.device_id or 0)) for alarm in alarms)
    owns = {pk: own.pk for pk, own in silent if own is not None and pk != own.pk and pk not in found}
    rows = Consequence.objects.filter(alarm_id__in=set(owns.values()), ended_at=None) if owns else ()
    roots = {row.alarm_id: row.cause_id for row in rows} | {pk: cause.alarm for pk, cause in found.items()}
    return {
        **found,
        **{pk: Cause(roots.get(own, own), "The device itself does not answer") for pk, own in owns.items()},
    }


def _asked_first(alarms: Sequence[Alarm], known: Standing, now: datetime) -> dict[int, datetime]:
    """Those that may be behind devices of which nothing is known since: these are polled at once, and waited for."""
    raised = {alarm.device_id: alarm for alarm in alarms if alarm.device_id is not None}
    unsure = over_links.waited_for(raised, known)
    polling.ask_at_once({each for mine in unsure.values() for each in mine})
    return {raised[device].pk: now + ASKED for device in unsure}


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


def _keep(found: Mapping[int, Cause], now: datetime, by_links: Collection[int] = ()) -> dict[int, Cause]:
    """Record what follows from what, but what a person overruled. Returns what is a consequence now.

    What followed from something that follows from something else itself by now is put under that.
    """
    overruled = set(Overruled.objects.filter(alarm_id__in=found).values_list("alarm_id", "cause_id"))
    kept = {alarm: cause for alarm, cause in found.items() if (alarm, cause.alarm) not in overruled}
    if by_links:
        kept = _without_circles(kept, by_links, now)
    open_ = Consequence.objects.filter(Q(alarm_id__in=kept) | Q(cause_id__in=kept), ended_at=None)
    known, moved = dict[int, int](), list[Consequence]()
    for row in open_:
        known[row.alarm_id] = row.cause_id
        if row.cause_id in kept:
            moved.append(row)
    Consequence.objects.filter(pk__in=[row.pk for row in moved]).update(ended_at=now)
    new = {alarm: cause for alarm, cause in kept.items() if alarm not in known}
    adopted = {row.alarm_id: kept.get(row.alarm_id) or Cause(kept[row.cause_id].alarm, row.reason) for row in moved}
    Consequence.objects.bulk_create(
        Consequence(
            alarm_id=alarm, cause_id=cause.alarm, reason=cause.reason[:300], at=now, is_by_links=alarm in by_links
        )
        for alarm, cause in (new | adopted).items()
    )
    return kept


def _without_circles(kept: Mapping[int, Cause], by_links: Collection[int], now: datetime) -> dict[int, Cause]:
    """What was found, but over the links nothing that follows from itself by what people said; that holds.

    What is a cause over the links by now follows from nothing over them any more.
    """
    rows = list(Consequence.objects.filter(ended_at=None))
    said = {row.alarm_id: row.cause_id for row in rows if not row.is_by_links}
    said |= {alarm: cause.alarm for alarm, cause in kept.items() if alarm not in by_links}

    def follows_from_itself(alarm: int) -> bool:
        cause, passed = kept[alarm].alarm, set[int]()
        while cause != alarm and cause in said and cause not in passed:
            passed.add(cause)
            cause = said[cause]
        return cause == alarm

    found = {alarm: cause for alarm, cause in kept.items() if alarm not in by_links or not follows_from_itself(alarm)}
    causes = {cause.alarm for alarm, cause in found.items() if alarm in by_links}
    turned = [row for row in rows if row.is_by_links and row.alarm_id in causes]
    Consequence.objects.filter(pk__in=[row.pk for row in turned]).update(ended_at=now)
    calls.resume([row.alarm_id for row in turned], now + SETTLING)
    return found


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
    """What followed from alarms that are cleared now stands by itself again, and is called for unless it ends soon.

    The same holds for what followed over the links, if they say otherwise now.
    """
    if not cleared:
        return
    Consequence.objects.filter(alarm_id__in=cleared, ended_at=None).update(ended_at=now)
    left = Consequence.objects.filter(ended_at=None)
    may_change = left.exists() and Alarm.objects.filter(pk__in=cleared, type__in=BY_LINKS).exists()
    standing = list(left if may_change else left.filter(cause_id__in=cleared))
    if not standing:
        return
    known = over_links.standing(now, with_links=may_change)
    by_links = _by_links(known)
    rows = [
        row
        for row in standing
        if row.cause_id in cleared or (row.is_by_links and _cause_of(row.alarm_id, by_links) != row.cause_id)
    ]
    alarms = list(Alarm.objects.filter(pk__in=[row.alarm_id for row in rows]))
    if not alarms:
        return
    ways = _ways()
    Consequence.objects.filter(pk__in=[row.pk for row in rows]).update(ended_at=now)
    around = _closure({alarm.device_id for alarm in alarms if alarm.device_id is not None}, ways)
    active = [alarm for alarm in alarms if not alarm.is_cleared]
    mine = {alarm.pk for alarm in active}
    again = {alarm: cause for alarm, cause in by_links.items() if alarm in mine}
    again = _of_silent(active, known, again | _causes(active, ways, _failed(around)))
    kept = _keep(again, now, set(by_links))
    calls.resume([alarm.pk for alarm in active if alarm.pk not in kept], now + SETTLING)


def _cause_of(alarm: int, found: Mapping[int, Cause]) -> int | None:
    return found[alarm].alarm if alarm in found else None


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


def overrule(alarm: int, by: str, now: datetime) -> bool:
    """Somebody says that an alarm does not follow from another one: it stands by itself, and is called for; that is remembered."""
    rows = list(Consequence.objects.filter(alarm_id=alarm, ended_at=None))
    if not rows:
        return False
    Consequence.objects.filter(pk__in=[row.pk for row in rows]).update(ended_at=now)
    Overruled.objects.bulk_create(
        [Overruled(alarm_id=alarm, cause_id=row.cause_id, by=by[:150], at=now) for row in rows], ignore_conflicts=True
    )
    calls.resume([alarm], now)
    announce("alarms", [alarm])
    return True
