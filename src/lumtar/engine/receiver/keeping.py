"""What follows from notifications, in one transaction: entries of the logbook, polls at once, last gasps."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from django.db import transaction

from lumtar.core.traps import Notification, Then
from lumtar.core.units import counted
from lumtar.domain.alarms import power
from lumtar.domain.inventory import polling
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.services import announce
from lumtar.engine.receiver.senders import Sender

MOST_ENTRIES = 20
"""Notifications of a device within a minute that the logbook has one by one; of further ones it has the number."""
MINUTE_S = 60


@dataclass(frozen=True, slots=True)
class Taken:
    """A notification that is believed, with its sender and when it came, seconds of the epoch."""

    sender: Sender
    notification: Notification
    at: float

    @property
    def then(self) -> Then:
        """What is to be done."""
        return self.notification.then(self.sender.last_gasps)


class Keeper:
    """Keeps what was taken; a device that sends without end fills no logbook."""

    def __init__(self) -> None:
        self._minute: dict[int, int] = {}
        self._written: dict[int, int] = defaultdict(int)
        self._left: dict[int, int] = defaultdict(int)

    @transaction.atomic
    def keep(self, taken: Sequence[Taken]) -> None:
        """Keep these; devices that were deleted meanwhile are left out."""
        devices = {each.sender.device for each in taken}
        there = set(Device.objects.filter(pk__in=devices, retired_at=None).values_list("pk", flat=True))
        taken = [each for each in taken if each.sender.device in there]
        ports = _ports(taken)
        Entry.objects.bulk_create([entry for each in taken if (entry := self._entry(each, ports))])
        if gasps := {each.sender.device: each.at for each in taken if each.then is Then.LAST_GASP}:
            power.note_last_gasps({device: datetime.fromtimestamp(at, UTC) for device, at in gasps.items()})
        polling.ask_at_once({each.sender.device for each in taken if each.then is not Then.NOTHING})
        announce("logbook", sorted({each.sender.device for each in taken}))

    def _entry(self, each: Taken, ports: Mapping[tuple[int, int], tuple[int, str]]) -> Entry | None:
        device, minute = each.sender.device, int(each.at // MINUTE_S)
        if self._minute.get(device) != minute:
            self._minute[device], self._written[device] = minute, 0
        self._written[device] += 1
        if self._written[device] > MOST_ENTRIES and each.then is not Then.LAST_GASP:
            self._left[device] += 1
            return None
        port, name = ports.get((device, each.notification.if_index or 0), (None, ""))
        is_gasp = each.then is Then.LAST_GASP
        words = each.notification.sentence(name, is_last_gasp=is_gasp)
        if left := self._left.pop(device, 0):
            words = f"{words} (before it {counted(left, 'further trap').lower()} in a short time)"
        at = datetime.fromtimestamp(each.at, UTC)
        return Entry(at=at, kind=Entry.Kind.TRAP, device_id=device, interface_id=port, text=words[:400])


def _ports(taken: Sequence[Taken]) -> dict[tuple[int, int], tuple[int, str]]:
    """Number and name of interfaces by device and ifIndex."""
    wanted = {(each.sender.device, index) for each in taken if (index := each.notification.if_index) is not None}
    rows = Interface.objects.filter(
        device__in={device for device, _ in wanted}, if_index__in={index for _, index in wanted}, gone_at=None
    )
    return {
        (device, index): (pk, label or name)
        for pk, device, index, label, name in rows.values_list("pk", "device_id", "if_index", "label", "name")
    }
