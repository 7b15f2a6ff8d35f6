"""End stations: at which port a MAC address is, since when and where before; which addresses belong to it."""

import ipaddress
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from django.db.models import Count, F, Q, QuerySet
from django.utils import timezone

from lumtar.core.topology.addressing import Addresses
from lumtar.core.topology.bridging import Forwarding
from lumtar.core.topology.macs import mac_number, mac_text
from lumtar.domain.topology.bridges import Ports
from lumtar.domain.topology.models import (
    Binding,
    InferredLink,
    ManualLink,
    Neighbour,
    OwnAddress,
    PortLayer2,
    Station,
    WirelessClient,
)

PAUSE = timedelta(hours=1)
"""A station that is heard again at the same port after less than this was there all the time: it only kept still."""
KEPT = timedelta(days=90)
"""So long it is remembered where something was."""


def link_ports(device: int) -> set[int]:
    """The ports of a device that lead to another device of the inventory, with the aggregates that they are members of."""
    mine = {"gone_at": None}
    ports: set[int | None] = set(
        Neighbour.objects.filter(device=device, **mine).exclude(to_device=None).values_list("interface_id", flat=True)
    )
    ports |= set(
        Neighbour.objects.filter(to_device=device, **mine)
        .exclude(to_interface=None)
        .values_list("to_interface_id", flat=True)
    )
    for model in (ManualLink, InferredLink):
        for end in ("a", "b"):
            rows = model.objects.filter(**{f"{end}_device": device}, **mine)
            ports |= set(rows.values_list(f"{end}_interface_id", flat=True))
    ports |= set(
        PortLayer2.objects.filter(interface__in=ports - {None})
        .exclude(aggregate=None)
        .values_list("aggregate_id", flat=True)
    )
    return {port for port in ports if port is not None}


def keep_stations(device: int, table: Forwarding, at: datetime) -> bool:
    """Keep who is at the ports of a bridge that lead to no other device. Returns whether anybody came or went."""
    leading = link_ports(device)
    told = {
        (mac_text(mac), int(port)): int(vlan)
        for mac, port, vlan in zip(*(table.rows[name].tolist() for name in ("mac", "port", "vlan")), strict=True)
        if port not in leading
    }
    known = {
        (mac, port): pk
        for pk, mac, port in Station.objects.filter(device=device, gone_at=None).values_list(
            "pk", "mac", "interface_id"
        )
    }
    new, gone = told.keys() - known.keys(), known.keys() - told.keys()
    Station.objects.filter(pk__in=[known[key] for key in gone]).update(gone_at=at)
    back = _back(Station.objects.filter(device=device, mac__in={mac for mac, _ in new}), new, at)
    Station.objects.bulk_create(
        (
            Station(mac=mac, device_id=device, interface_id=port, vlan=told[mac, port], since=at)
            for mac, port in sorted(new - back)
        ),
        batch_size=5000,
    )
    return bool(new or gone)


def _back(rows: "QuerySet[Station]", new: Collection[tuple[str, int]], at: datetime) -> set[tuple[str, int]]:
    """Those that were away for a short time only, and nowhere else meanwhile, are as if they had been there."""
    if not new:
        return set()
    last: dict[str, tuple[int, int, datetime | None]] = {}
    for pk, mac, port, gone in rows.order_by(F("gone_at").asc(nulls_last=True)).values_list(
        "pk", "mac", "interface_id", "gone_at"
    ):
        last[mac] = pk, port, gone
    back = {
        (mac, port): pk
        for mac, (pk, port, gone) in last.items()
        if (mac, port) in new and gone is not None and gone > at - PAUSE
    }
    Station.objects.filter(pk__in=back.values()).update(gone_at=None)
    return set(back)


def keep_addresses(device: int, told: Addresses, ports: Ports, at: datetime) -> bool:
    """Keep the addresses of a device, and those that it learnt of others. Returns whether its own are others than before."""
    wanted = {
        (ports.of_index[each.if_index], each.address, each.mac)
        for each in told.bindings
        if each.if_index in ports.of_index
    }
    known = {
        (interface, address, mac): pk
        for pk, interface, address, mac in Binding.objects.filter(device=device, gone_at=None).values_list(
            "pk", "interface_id", "address", "mac"
        )
    }
    gone = [pk for key, pk in known.items() if key not in wanted]
    Binding.objects.filter(pk__in=gone).update(gone_at=at)
    new = wanted - known.keys()
    recent = Binding.objects.filter(
        device=device, gone_at__gt=at - PAUSE, address__in={address for _, address, _ in new}
    )
    back = (
        {
            key: pk
            for pk, *key_of in recent.order_by("gone_at").values_list("pk", "interface_id", "address", "mac")
            if (key := tuple(key_of)) in new
        }
        if new
        else {}
    )
    Binding.objects.filter(pk__in=back.values()).update(gone_at=None)
    Binding.objects.bulk_create(
        (
            Binding(address=address, mac=mac, device_id=device, interface_id=interface, since=at)
            for interface, address, mac in sorted(new - back.keys())
        ),
        batch_size=5000,
    )
    own = {
        (ports.of_index[each.if_index], each.address, each.prefix)
        for each in told.own
        if each.if_index in ports.of_index
    }
    if own == set(OwnAddress.objects.filter(device=device).values_list("interface_id", "address", "prefix")):
        return False
    OwnAddress.objects.filter(device=device).delete()
    OwnAddress.objects.bulk_create(
        OwnAddress(device_id=device, interface_id=interface, address=address, prefix=prefix)
        for interface, address, prefix in sorted(own, key=lambda each: (each[0], each[1]))
    )
    return True


def there_at(at: datetime) -> "QuerySet[Station]":
    """The stations that were there at a time."""
    return Station.objects.filter(Q(gone_at=None) | Q(gone_at__gt=at), since__lte=at, device__retired_at=None)


@dataclass(frozen=True, slots=True)
class Stay:
    """Where something was, and from when until when."""

    interface: int
    device: int
    vlan: int
    since: datetime
    gone_at: datetime | None


@dataclass(slots=True)
class Whereabouts:
    """A MAC address: its addresses at the asked time, where it is, and where it was before, the latest first.

    Attributes
    ----------
    here : None if it is not seen anywhere at that time
    shared : how many other stations are at that port: what is between is no device of the inventory
    """

    mac: str
    addresses: list[str] = field(default_factory=list)
    here: Stay | None = None
    shared: int = 0
    before: list[Stay] = field(default_factory=list)


MOST_FOUND = 50
MOST_STAYS = 20


def macs_of(words: str, at: datetime) -> list[str]:
    """The MAC addresses that words name: as such, or by an address that belonged to them at a time, or did last."""
    if (number := mac_number(words)) is not None:
        return [mac_text(number)]
    try:
        address = str(ipaddress.ip_address(words.strip()))
    except ValueError:
        return []
    rows = Binding.objects.filter(address=address, since__lte=at).order_by(
        F("gone_at").desc(nulls_first=True), "-since"
    )
    clients = WirelessClient.objects.filter(address=address, since__lte=at).order_by(
        F("gone_at").desc(nulls_first=True), "-since"
    )
    found = [*rows.values_list("mac", flat=True)[:MOST_FOUND], *clients.values_list("mac", flat=True)[:MOST_FOUND]]
    return list(dict.fromkeys(found))


def whereabouts(macs: Collection[str], past: datetime | None = None) -> list[Whereabouts]:
    """Where MAC addresses are or were at a time, and before that; None is now. In the order that they were given."""
    at = past or timezone.now()
    found = {mac: Whereabouts(mac) for mac in macs}
    bound = Binding.objects.filter(Q(gone_at=None) | Q(gone_at__gt=at), mac__in=found, since__lte=at).order_by(
        "address"
    )
    for mac, address in bound.values_list("mac", "address").distinct():
        found[mac].addresses.append(address)
    stays: dict[str, list[Station]] = {}
    for row in Station.objects.filter(mac__in=found, since__lte=at, device__retired_at=None).order_by("-since"):
        stays.setdefault(row.mac, []).append(row)
    crowd = _crowds(at, {row.interface_id for rows in stays.values() for row in rows})
    for mac, rows in stays.items():
        now = [row for row in rows if row.gone_at is None or row.gone_at > at]
        # Where two devices are joined by a link that nobody knows of, both hear it; it is where fewest others are.
        here = min(now, key=lambda row: (crowd.get(row.interface_id, 0), -row.since.timestamp()), default=None)
        one = found[mac]
        if here is not None:
            one.here, one.shared = _stay(here), crowd.get(here.interface_id, 1) - 1
        past_stays = [row for row in rows if row is not here and row not in now]
        one.before = [_stay(row) for row in sorted(past_stays, key=_last, reverse=True)[:MOST_STAYS]]
    return list(found.values())


def _last(row: Station) -> datetime:
    return row.gone_at or row.since


def _stay(row: Station) -> Stay:
    return Stay(row.interface_id, row.device_id, row.vlan, row.since, row.gone_at)


def _crowds(at: datetime, ports: Collection[int]) -> Mapping[int, int]:
    """How many stations there are at each of some ports."""
    rows = there_at(at).filter(interface__in=ports).values_list("interface_id")
    return dict(rows.annotate(number=Count("pk")))


def names_of(macs: Iterable[str], at: datetime) -> dict[str, list[str]]:
    """The addresses that belonged to MAC addresses at a time."""
    rows = Binding.objects.filter(Q(gone_at=None) | Q(gone_at__gt=at), mac__in=set(macs), since__lte=at)
    found: dict[str, list[str]] = {}
    for mac, address in rows.order_by("address").values_list("mac", "address").distinct():
        found.setdefault(mac, []).append(address)
    return found


def forget(now: datetime) -> int:
    """Forget who was somewhere long ago. Returns how many stays and bindings that were."""
    stays, _ = Station.objects.filter(gone_at__lt=now - KEPT).delete()
    bound, _ = Binding.objects.filter(gone_at__lt=now - KEPT).delete()
    return stays + bound
