"""What follows from what over the links between devices, as discovery and people know them."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from lumtar.core.topology import End
from lumtar.core.topology.failures import Explanation, Failure, Why, explain
from lumtar.domain.alarms.models import Alarm, alarm_type
from lumtar.domain.inventory.models import Device, DeviceState
from lumtar.domain.topology import queries

UNREACHABLE, DOWN = alarm_type("unanswered"), alarm_type("down")
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
