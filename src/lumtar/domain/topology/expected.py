"""Which neighbour is expected at which port: what somebody froze, else what was there for a while."""

from collections import defaultdict
from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import F, Q
from django.utils import timezone

from lumtar.core.labels import Role
from lumtar.core.topology import End
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce
from lumtar.domain.topology.models import ExpectedLink, Neighbour

SETTLED = timedelta(hours=1)
"""A neighbour that was there for so long is missed when it goes."""
MISSED_FOR = timedelta(days=1)
"""After so long what is there now is taken as meant, unless the expected topology is frozen."""


@dataclass(frozen=True, slots=True)
class Seen:
    """A neighbour at a port: who it is as far as the inventory knows, and what it calls itself."""

    port: int
    to: End | None
    name: str
    since: datetime


@dataclass(frozen=True, slots=True)
class Difference:
    """A port at which something else is seen than expected.

    Attributes
    ----------
    expected : None if no neighbour is expected there, or none of the inventory
    seen : what is seen instead; None if nothing is
    is_frozen : somebody said what is expected
    """

    port: int
    device: int
    expected: End | None
    seen: Seen | None
    is_frozen: bool

    @property
    def subject(self) -> int:
        """The port that the link is known by: the same for both ends."""
        other = self.expected or (self.seen.to if self.seen else None)
        return min(self.port, other.port) if other and other.port is not None else self.port


@dataclass(frozen=True, slots=True)
class _Row:
    port: int
    device: int
    role: str
    seen: Seen
    gone_at: datetime | None


def differences(now: datetime) -> list[Difference]:
    """Where what is seen is not what is expected, in the order of the ports."""
    rows = _rows(now)
    frozen, strangers = dict[int, End | None](), dict[int, str]()
    owners, wholly = dict[int, int](), set[int]()
    for pk, owner, to, to_port, name, is_whole in ExpectedLink.objects.values_list(
        "interface_id", "interface__device_id", "to_device_id", "to_interface_id", "name", "is_whole"
    ):
        frozen[pk], strangers[pk] = (End(to, to_port) if to is not None else None), name
        owners[pk] = owner
        if is_whole:
            # Every port of it is frozen: one without a row is to have no neighbour.
            wholly.add(owner)
    first: dict[int, datetime] = {}
    for row in rows:
        first[row.device] = min(row.seen.since, first.get(row.device, now))
    at: dict[int, list[_Row]] = defaultdict(list)
    for row in rows:
        at[row.port].append(row)
    found = []
    for port in sorted(at.keys() | frozen.keys()):
        mine = at.get(port, [])
        here = [row.seen for row in mine if row.gone_at is None]
        if (stranger := strangers.get(port)) and frozen[port] is None:
            here = [each for each in here if each.name != stranger]
        device = mine[0].device if mine else owners[port]
        if port in frozen:
            found += _against(port, device, frozen[port], here, is_frozen=True)
        elif device in wholly:
            found += _against(port, device, None, here, is_frozen=True)
        else:
            found += _against_before(port, device, mine, here, first[device], now)
    return found


def _rows(now: datetime) -> list[_Row]:
    rows = Neighbour.objects.filter(Q(gone_at=None) | Q(gone_at__gt=now - MISSED_FOR)).exclude(interface=None)
    rows = rows.filter(device__retired_at=None, interface__gone_at=None).order_by("interface", "since")
    return [
        _Row(
            port, device, role,
            Seen(port, End(to, to_port) if to is not None else None, name or chassis, since), gone,
        )
        for port, device, role, to, to_port, name, chassis, since, gone in rows.values_list(
            "interface_id", "device_id", "interface__role", "to_device_id", "to_interface_id", "sys_name", "chassis", "since", "gone_at"
        )
    ]  # fmt: skip


def _is_meant(seen: Seen, expected: End) -> bool:
    if seen.to is None or seen.to.device != expected.device:
        return False
    return None in (seen.to.port, expected.port) or seen.to.port == expected.port


def _against(
    port: int, device: int, expected: End | None, here: Collection[Seen], *, is_frozen: bool
) -> list[Difference]:
    if expected is None:
        return [Difference(port, device, None, next(iter(here)), is_frozen)] if here else []
    if any(_is_meant(each, expected) for each in here):
        return []
    return [Difference(port, device, expected, next(iter(here), None), is_frozen)]


def _against_before(
    port: int, device: int, rows: Iterable[_Row], here: Collection[Seen], first: datetime, now: datetime
) -> list[Difference]:
    """Against what was there for a while within the last day."""
    listed = list(rows)
    was = [
        row
        for row in listed
        if row.gone_at is not None and row.gone_at - row.seen.since >= SETTLED and row.seen.to is not None
    ]
    if was:
        last = max(was, key=lambda row: row.gone_at or now)
        return _against(port, device, last.seen.to, here, is_frozen=False)
    is_new = bool(here) and all(now - MISSED_FOR < each.since and each.since - first > SETTLED for each in here)
    is_access = any(row.role == Role.ACCESS for row in listed)
    return [Difference(port, device, None, next(iter(here)), is_frozen=False)] if is_new and is_access else []


@transaction.atomic
def freeze(by: str, devices: Collection[int] | None = None) -> int:
    """What is seen now is what is expected from now on, of all devices or of some. Returns at how many ports a neighbour is expected."""
    now = timezone.now()
    rows = Neighbour.objects.filter(gone_at=None, device__retired_at=None).exclude(interface=None)
    before = ExpectedLink.objects.all()
    if devices is not None:
        rows, before = rows.filter(device__in=devices), before.filter(interface__device__in=devices)
    before.delete()
    ends = {row.interface_id: row for row in rows.order_by("since") if row.interface_id is not None}
    ExpectedLink.objects.bulk_create(
        (
            ExpectedLink(interface_id=port, **_meant(row), is_whole=True, frozen_at=now, frozen_by=by)
            for port, row in ends.items()
        ),
        batch_size=2000,
    )
    note_action(
        "the expected topology was frozen"
        if devices is None
        else f"the expected topology of {len(devices)} devices was frozen",
        by,
    )
    announce("topology")
    return len(ends)


def _meant(seen: Neighbour | None) -> dict[str, Any]:
    """A neighbour as the expected one; nobody, if nobody is seen."""
    if seen is None:
        return {"to_device_id": None, "to_interface_id": None, "name": ""}
    name = "" if seen.to_device_id is not None else seen.sys_name or seen.chassis
    return {"to_device_id": seen.to_device_id, "to_interface_id": seen.to_interface_id, "name": name}


@transaction.atomic
def accept(port: int, by: str) -> None:
    """What is seen at a port now is expected there from now on, and at the other end as well; nothing, if nothing is seen."""
    now = timezone.now()
    rows = list(Neighbour.objects.filter(interface=port, gone_at=None).values_list("to_device_id", "to_interface_id"))
    was = list(
        Neighbour.objects.filter(interface=port, gone_at__gt=now - MISSED_FOR).values_list("to_interface_id", flat=True)
    )
    others = {each for _, each in rows if each is not None} | {each for each in was if each is not None}
    for each in (port, *sorted(others)):
        seen = Neighbour.objects.filter(interface=each, gone_at=None).order_by("since").first()
        ExpectedLink.objects.update_or_create(
            interface_id=each, defaults={**_meant(seen), "frozen_at": now, "frozen_by": by}
        )
    note_action("what is seen at a port was accepted as the expected neighbour", by)
    announce("topology")


@transaction.atomic
def thaw(by: str) -> int:
    """Nothing is frozen any more: what was there for a while is expected. Returns how many ports that were."""
    number, _ = ExpectedLink.objects.all().delete()
    note_action("the expected topology is not frozen any more", by)
    announce("topology")
    return number


def frozen() -> tuple[int, datetime, str] | None:
    """At how many ports it is frozen which neighbour is expected, since when and by whom the latest; None if nowhere."""
    last = ExpectedLink.objects.order_by(F("frozen_at").desc()).first()
    return (ExpectedLink.objects.count(), last.frozen_at, last.frozen_by) if last else None
