"""What follows from what over the links between devices, as discovery and people know them."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from lumtar.core.topology import End
from lumtar.core.topology.failures import Explanation, Failure, Why, explain
from lumtar.domain.alarms.models import Alarm, alarm_type
from lumtar.domain.inventory.models import Device, DeviceState
from lumtar.domain.topology import queries
from lumtar.domain.topology.models import PortLayer2

UNREACHABLE, DOWN = alarm_type("unanswered"), alarm_type("down")
OF_LINKS = (alarm_type("link_alone"), alarm_type("link_members_down"))
"""Types of alarms that only tell what a link that is down means."""
WORDS = {
    Why.BEHIND: "It is reached by way of {over}, which does not answer",
    Why.BEHIND_SEVERAL: "Every way to it leads over devices that do not answer; {over} was the first of them",
    Why.LINK_DOWN: "The last way to it is the link at {over}, which is down",
    Why.LEADS_THERE: "It leads to {over}, which does not answer, nor is any other link to that device up",
    Why.OTHER_END: "It is the other end of the link at {over}, which is down as well",
}
"""The sentence for each reason, read after the alarm that follows."""


@dataclass(frozen=True, slots=True)
class Standing:
    """The active alarms about silent devices and about ports that are down, and the links between them."""

    silent: Mapping[int, Alarm]
    down: Mapping[int, Alarm]
    links: list[tuple[End, End]]

    def explained(self, more: Mapping[int, float] | None = None) -> dict[Failure, Explanation]:
        """What follows from what; ``more`` are devices that may be silent as well."""
        since = {device: alarm.raised_at.timestamp() for device, alarm in self.silent.items()}
        down = {interface: alarm.raised_at.timestamp() for interface, alarm in self.down.items()}
        return explain({**(more or {}), **since}, down, self.links)

    def alarm(self, failure: Failure) -> Alarm | None:
        """The alarm that says so."""
        return (self.silent if failure.kind == "device" else self.down).get(failure.number)


def standing(now: datetime, *, with_links: bool) -> Standing:
    """What is silent and down now, and the links if something may follow over them."""
    active = list(Alarm.objects.filter(type__in=(UNREACHABLE, DOWN), is_cleared=False, device__retired_at=None))
    silent = {alarm.device_id: alarm for alarm in active if alarm.type == UNREACHABLE and alarm.device_id}
    down = {alarm.interface_id: alarm for alarm in active if alarm.type == DOWN and alarm.interface_id}
    return Standing(silent, down, _links(now) if with_links and (silent or down) else [])


def _links(now: datetime) -> list[tuple[End, End]]:
    """All links, and between devices without one what a person said that one hangs on."""
    found = queries.joined(now)
    seen = {frozenset((a.device, b.device)) for a, b in found}
    by_hand = Device.hangs_on.through._default_manager.values_list("from_device_id", "to_device_id")
    return found + [(End(a, None), End(b, None)) for a, b in by_hand if frozenset((a, b)) not in seen]


def of_down_ports(known: Standing) -> dict[int, tuple[int, str]]:
    """What follows from a port that is down: its aggregate, and what the loss of the link means. By alarm, the cause and why."""
    told = (
        list(Alarm.objects.filter(type__in=OF_LINKS, is_cleared=False, device__retired_at=None)) if known.down else []
    )
    if not known.down:
        return {}
    members: dict[int, list[int]] = {}
    for port, aggregate in PortLayer2.objects.exclude(aggregate=None).values_list("interface_id", "aggregate_id"):
        members.setdefault(aggregate or 0, []).append(port)
    carried = PortLayer2.objects.filter(interface__in=known.down).exclude(carriers=[])
    carriers = dict(carried.values_list("interface_id", "carriers"))
    beyond = {a.port: b.port for one, two in known.links for a, b in ((one, two), (two, one)) if a.port and b.port}
    found = {}
    for port, alarm in known.down.items():
        below = [known.down[each] for each in members.get(port, ()) if each in known.down]
        if first := min(below, key=lambda each: (each.raised_at, each.pk), default=None):
            found[alarm.pk] = first.pk, f"It is an aggregate, and {first.label} is a member of it that is down"
    for port, over in carriers.items():
        below = [known.down[each] for each in over if each in known.down]
        if len(below) == len(over) and port not in members:
            first = min(below, key=lambda each: (each.raised_at, each.pk))
            found[known.down[port].pk] = first.pk, f"It runs over {first.label}, which is down"
    for alarm in told:
        near = [alarm.interface_id or 0, *members.get(alarm.interface_id or 0, ())]
        ports = [*near, *(beyond[each] for each in near if each in beyond)]
        below = [known.down[each] for each in ports if each in known.down]
        if first := min(below, key=lambda each: (each.raised_at, each.pk), default=None):
            found[alarm.pk] = first.pk, f"It follows from the link at {first.label}, which is down"
    return found


def words(explanation: Explanation, known: Standing) -> str:
    """Why something follows, as a sentence."""
    over = known.alarm(explanation.over)
    return WORDS[explanation.why].format(over=over.label if over else "a device")


def waited_for(raised: Mapping[int, Alarm], known: Standing) -> dict[int, list[int]]:
    """Devices that may be behind others of which it is not known yet whether they answer.

    Parameters
    ----------
    raised : devices that do not answer since now, with their alarms

    Returns
    -------
    of such a device those that are to be asked first
    """
    near: dict[int, set[int]] = {device: set() for device in raised}
    for a, b in known.links:
        for here, there in ((a.device, b.device), (b.device, a.device)):
            if here in near and here != there:
                near[here].add(there)
    asked_of = DeviceState.objects.filter(device__enabled=True, device__retired_at=None)
    asked_of = asked_of.filter(device_id__in=set(raised).union(*near.values())).select_related("device")
    state = {each.device_id: each for each in asked_of}
    found = {}
    for device, alarm in raised.items():
        mine = state.get(device)
        if mine is None or mine.answered_at is None:
            continue
        # Whoever answered after this one should have is there.
        failed = min(alarm.raised_at, mine.answered_at + timedelta(seconds=mine.device.interval_s))
        unsure, sure = list[int](), list[int]()
        for each in near[device] - known.silent.keys():
            asked = state.get(each)
            is_unsure = asked is not None and (asked.answered_at or failed) < failed
            (unsure if is_unsure else sure).append(each)
        if unsure and not sure:
            found[device] = sorted(unsure)
    return found
