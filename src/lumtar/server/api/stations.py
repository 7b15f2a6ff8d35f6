"""End stations: where a MAC address or an address is, since when and where before; who is at a port; what a device is as a bridge."""

from collections.abc import Iterable
from datetime import datetime

from django.db.models import F, Q
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone

from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.inventory.scope import NO_SITE
from lumtar.domain.topology import stations, wireless
from lumtar.domain.topology.models import Binding, Bridge, OwnAddress, PortLayer2
from lumtar.domain.topology.stations import Stay
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past
from lumtar.server.api.wireless import ClientOut, client_out

router = Router(tags=["stations"])
MOST_STATIONS = 1000


class PlaceOut(Schema):
    """Where a station is or was, and from when until when; it is there still if ``gone_at`` is None."""

    interface_id: int
    label: str
    device_id: int
    device: str
    site: str
    vlan: int
    vlan_name: str
    since: datetime
    gone_at: datetime | None


class StationOut(PlaceOut):
    """A station with its addresses."""

    mac: str
    addresses: list[str]


class StationsOut(Schema):
    """Stations at the ports of bridges, and how many there are in all."""

    rows: list[StationOut]
    total: int


@router.get("/stations", needs=VIEWER, response=StationsOut)
def list_stations(
    request: HttpRequest,
    at: datetime | None = None,
    words: str = "",
    site: str = "",
    device: int | None = None,
    interface: int | None = None,
    limit: int = MOST_STATIONS,
) -> StationsOut:
    """Who is at which port, now or at a past time.

    Words look for parts of a MAC address, of an address, of a port's or of a device's name; all of them have to be found.
    """
    when = past(at) or timezone.now()
    rows = stations.there_at(when)
    for word in words.split()[:8]:
        rows = rows.filter(_named(word, when))
    if site:
        rows = rows.filter(device__site=None) if site == NO_SITE else rows.filter(device__site__name=site)
    if device is not None:
        rows = rows.filter(device=device)
    if interface is not None:
        rows = rows.filter(interface=interface)
    total = rows.count()
    found = list(rows.order_by("device__name", "interface__if_index", "mac")[: max(0, min(limit, MOST_STATIONS))])
    addresses = stations.names_of({row.mac for row in found}, when)
    places = _Places(Stay(row.interface_id, row.device_id, row.vlan, row.since, row.gone_at) for row in found)
    return StationsOut(
        rows=[
            StationOut(**place.model_dump(), mac=row.mac, addresses=addresses.get(row.mac, []))
            for row, place in zip(found, places.out, strict=True)
        ],
        total=total,
    )


def _named(word: str, when: datetime) -> Q:
    lower = word.lower()
    digits = "".join(each for each in lower if each not in ":-.")
    mac = ":".join(digits[place : place + 2] for place in range(0, len(digits), 2))
    known = Binding.objects.filter(Q(gone_at=None) | Q(gone_at__gt=when), since__lte=when, address__startswith=lower)
    return (
        Q(mac__contains=mac or lower)
        | Q(mac__in=known.values("mac"))
        | Q(device__name__icontains=word)
        | Q(interface__label__icontains=word)
    )


class _Places:
    """Stays with what their ports and VLANs are called; one query each."""

    def __init__(self, stays: Iterable[Stay]) -> None:
        listed = list(stays)
        rows = Interface.objects.filter(pk__in={each.interface for each in listed})
        labels = dict(rows.values_list("pk", "label"))
        devices = {
            pk: (name, site or "")
            for pk, name, site in Device.objects.filter(pk__in={each.device for each in listed}).values_list(
                "pk", "name", "site__name"
            )
        }
        vlans = dict(Bridge.objects.filter(device__in=devices).values_list("device_id", "vlans"))
        self.out = [
            PlaceOut(
                interface_id=each.interface,
                label=labels.get(each.interface, ""),
                device_id=each.device,
                device=devices.get(each.device, ("", ""))[0],
                site=devices.get(each.device, ("", ""))[1],
                vlan=each.vlan,
                vlan_name=vlans.get(each.device, {}).get(str(each.vlan), ""),
                since=each.since,
                gone_at=each.gone_at,
            )
            for each in listed
        ]


class WhereaboutsOut(Schema):
    """A MAC address: its addresses, the port where it is, how many other stations are there, and where it was before.

    ``wireless`` are its stays at access points, the latest first.
    """

    mac: str
    addresses: list[str]
    here: PlaceOut | None
    shared: int
    before: list[PlaceOut]
    wireless: list[ClientOut]


@router.get("/stations/{str:what}", needs=VIEWER, response=list[WhereaboutsOut])
def where_is(request: HttpRequest, what: str, at: datetime | None = None) -> list[WhereaboutsOut]:
    """Where a MAC address or an address is, now or at a past time; an address may have belonged to several MAC addresses."""
    until = past(at)
    macs = stations.macs_of(what, until or timezone.now())
    found, clients = stations.whereabouts(macs, until), wireless.stays_of(macs, until or timezone.now())
    places = _Places([each.here for each in found if each.here] + [stay for each in found for stay in each.before]).out
    heres, befores = iter(places), iter(places[sum(each.here is not None for each in found) :])
    return [
        WhereaboutsOut(
            mac=each.mac,
            addresses=each.addresses,
            here=next(heres) if each.here else None,
            shared=each.shared,
            before=[next(befores) for _ in each.before],
            wireless=[client_out(row) for row in clients.get(each.mac, [])],
        )
        for each in found
        if each.here or each.before or each.addresses or each.mac in clients
    ]


class OwnAddressOut(Schema):
    """An address that a device has itself."""

    interface_id: int
    label: str
    address: str
    prefix: int | None


class BridgeOut(Schema):
    """What a device told of itself as a bridge last.

    ``root`` is the priority and address of the bridge at the root of the spanning tree; ``root_device`` who that is.
    """

    at: datetime
    address: str
    stations: int
    root: str
    root_device_id: int | None
    root_device: str
    root_interface_id: int | None
    root_label: str
    root_since: datetime | None
    changes_per_hour: float | None
    vlans: dict[str, str]


class DeviceLayersOut(Schema):
    """What a device is as a bridge, if it is one, and the addresses that it has."""

    bridge: BridgeOut | None
    own_addresses: list[OwnAddressOut]


@router.get("/devices/{int:device}/layers", needs=VIEWER, response=DeviceLayersOut)
def layers(request: HttpRequest, device: int) -> DeviceLayersOut:
    """What a device is as a bridge, and which addresses it has."""
    get_object_or_404(Device, pk=device)
    own = [
        OwnAddressOut(interface_id=pk, label=label, address=address, prefix=prefix)
        for pk, label, address, prefix in OwnAddress.objects.filter(device=device)
        .order_by("address")
        .values_list("interface_id", "interface__label", "address", "prefix")
    ]
    row = Bridge.objects.filter(device=device).select_related("root_interface").first()
    return DeviceLayersOut(bridge=_bridge(row) if row else None, own_addresses=own)


def _bridge(row: Bridge) -> BridgeOut:
    mac = row.root.rsplit(" ", 1)[-1]
    at_root = Bridge.objects.filter(address=mac, device__retired_at=None).exclude(address="")
    root, name = at_root.values_list("device_id", "device__name").first() or (None, "")
    return BridgeOut(
        at=row.at,
        address=row.address,
        stations=row.stations,
        root=row.root,
        root_device_id=root,
        root_device=name,
        root_interface_id=row.root_interface_id,
        root_label=row.root_interface.label if row.root_interface else "",
        root_since=row.root_since,
        changes_per_hour=row.changes_per_hour,
        vlans=row.vlans,
    )


class Layer2Out(Schema):
    """What a port is in its bridge: VLANs, aggregate, role in the spanning tree, and how many stations are at it."""

    pvid: int
    tagged: list[int]
    untagged: list[int]
    vlans: dict[str, str]
    aggregate_id: int | None
    aggregate: str
    members: list[str]
    stp_role: str
    stp_since: datetime | None
    mtu: int


@router.get("/interfaces/{int:interface}/layer2", needs=VIEWER, response=Layer2Out | None)
def layer2(request: HttpRequest, interface: int) -> Layer2Out | None:
    """What a port is in its bridge; nothing if its device tells nothing of that."""
    port = get_object_or_404(Interface, pk=interface)
    row = PortLayer2.objects.filter(interface=interface).select_related("aggregate").first()
    if row is None:
        return None
    named = Bridge.objects.filter(device=port.device_id).values_list("vlans", flat=True).first() or {}
    mine = {str(each) for each in (*row.tagged, *row.untagged)}
    members = PortLayer2.objects.filter(aggregate=interface).order_by("interface__if_index")
    return Layer2Out(
        pvid=row.pvid,
        tagged=row.tagged,
        untagged=row.untagged,
        vlans={number: name for number, name in named.items() if number in mine},
        aggregate_id=row.aggregate_id,
        aggregate=row.aggregate.label if row.aggregate else "",
        members=list(members.annotate(label=F("interface__label")).values_list("label", flat=True)),
        stp_role=row.stp_role,
        stp_since=row.stp_since,
        mtu=row.mtu,
    )
