"""Wireless: access points with the ports that they are plugged in at, networks, and clients with where they were before."""

from collections.abc import Iterable
from datetime import datetime

from django.db.models import Q
from django.http import HttpRequest
from django.utils import timezone

from lumtar.domain.inventory.models import Interface
from lumtar.domain.reports import access_points
from lumtar.domain.topology import wireless
from lumtar.domain.topology.models import WirelessClient
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past

router = Router(tags=["wireless"])
MOST_CLIENTS = 1000


class PluggedInOut(Schema):
    """The port at which an access point is plugged in, and since when it was seen there."""

    device_id: int
    device: str
    site: str
    interface_id: int
    label: str
    since: datetime


class NetworkOut(Schema):
    """A wireless network by its name (SSID), and how many clients it has."""

    name: str
    clients: int


class AccessPointOut(Schema):
    """An access point: ``is_up`` whether it is joined to its controller, nothing if that is not told; ``changed_at`` since when.

    ``device_id`` if it is a device of the inventory itself.
    """

    id: int
    name: str
    mac: str
    address: str
    model: str
    is_up: bool | None
    changed_at: datetime
    controller_id: int
    controller: str
    device_id: int | None
    plugged_in: PluggedInOut | None
    networks: list[NetworkOut]
    clients: int


class AccessPointsOut(Schema):
    """Access points, and the networks at any of those that are meant, whether the wanted one or not."""

    rows: list[AccessPointOut]
    networks: list[NetworkOut]


@router.get("/access-points", needs=VIEWER, response=AccessPointsOut)
def list_access_points(
    request: HttpRequest,
    at: datetime | None = None,
    words: str = "",
    network: str = "",
    site: str = "",
    device: int | None = None,
    interface: int | None = None,
) -> AccessPointsOut:
    """The access points, now or at a past time; ``device`` is a controller, ``site`` and ``interface`` where they are plugged in."""
    until = past(at)
    found = access_points.find(until, words=words, only=device)
    places = _places(each.plugged_in for each in found)
    rows = [_point(each, places) for each in found]
    if interface is not None:
        rows = [row for row in rows if row.plugged_in is not None and row.plugged_in.interface_id == interface]
    if site:
        rows = [row for row in rows if row.plugged_in is not None and row.plugged_in.site == site]
    totals: dict[str, int] = {}
    for row in rows:
        for each in row.networks:
            totals[each.name] = totals.get(each.name, 0) + each.clients
    return AccessPointsOut(
        rows=[row for row in rows if not network or any(each.name == network for each in row.networks)],
        networks=[NetworkOut(name=name, clients=number) for name, number in sorted(totals.items())],
    )


def _places(ports: Iterable[access_points.PluggedIn | None]) -> dict[int, PluggedInOut]:
    listed = [each for each in ports if each is not None]
    rows = Interface.objects.filter(pk__in={each.interface for each in listed}).values_list(
        "pk", "label", "device__name", "device__site__name"
    )
    named = {pk: (label, device, site or "") for pk, label, device, site in rows}
    return {
        each.interface: PluggedInOut(
            device_id=each.device,
            device=named[each.interface][1],
            site=named[each.interface][2],
            interface_id=each.interface,
            label=named[each.interface][0],
            since=each.since,
        )
        for each in listed
        if each.interface in named
    }


def _point(row: access_points.AccessPointRow, places: dict[int, PluggedInOut]) -> AccessPointOut:
    point = row.point
    return AccessPointOut(
        id=point.pk,
        name=point.name,
        mac=point.mac,
        address=point.address or "",
        model=point.model,
        is_up=point.is_up,
        changed_at=point.changed_at,
        controller_id=point.controller_id,
        controller=point.controller.name,
        device_id=row.device,
        plugged_in=places.get(row.plugged_in.interface) if row.plugged_in else None,
        networks=[NetworkOut(name=name, clients=number) for name, number in row.networks.items()],
        clients=row.clients,
    )


class ClientOut(Schema):
    """A wireless client at an access point, from when until when; it is there still if ``gone_at`` is nothing."""

    mac: str
    address: str
    network: str
    signal_dbm: int | None
    access_point_id: int
    access_point: str
    controller_id: int
    since: datetime
    gone_at: datetime | None


class ClientsOut(Schema):
    """Wireless clients, and how many there are in all."""

    rows: list[ClientOut]
    total: int


@router.get("/wireless-clients", needs=VIEWER, response=ClientsOut)
def list_clients(
    request: HttpRequest,
    at: datetime | None = None,
    words: str = "",
    network: str = "",
    access_point: int | None = None,
    limit: int = MOST_CLIENTS,
) -> ClientsOut:
    """Who is in a wireless network, or at an access point, now or at a past time; weak signals first."""
    rows = wireless.clients_at(past(at) or timezone.now())
    for word in words.split()[:8]:
        rows = rows.filter(
            Q(mac__icontains=word)
            | Q(address__startswith=word)
            | Q(network__icontains=word)
            | Q(access_point__name__icontains=word)
        )
    if network:
        rows = rows.filter(network=network)
    if access_point is not None:
        rows = rows.filter(access_point=access_point)
    found = rows.select_related("access_point").order_by("signal_dbm", "mac")
    return ClientsOut(rows=[client_out(each) for each in found[: max(0, min(limit, MOST_CLIENTS))]], total=rows.count())


def client_out(row: WirelessClient) -> ClientOut:
    """A stay of a client as it is told."""
    return ClientOut(
        mac=row.mac,
        address=row.address or "",
        network=row.network,
        signal_dbm=row.signal_dbm,
        access_point_id=row.access_point_id,
        access_point=row.access_point.name,
        controller_id=row.device_id,
        since=row.since,
        gone_at=row.gone_at,
    )
