"""Routes: where a device sends packets, now or at a past time."""

import ipaddress
from datetime import datetime

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone

from lumtar.domain.inventory.models import Device
from lumtar.domain.topology import routing
from lumtar.domain.topology.models import OwnAddress, Route
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.problems import Problem
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past

router = Router(tags=["routes"])
MOST_ROUTES = 1000


class RouteOut(Schema):
    """A route: ``device_id`` is who has the address of the next hop; a metric of -1 is not known."""

    network: str
    next_hop: str
    device_id: int | None
    device: str
    interface_id: int | None
    label: str
    protocol: str
    metric: int
    is_discarding: bool
    since: datetime


class RoutesOut(Schema):
    """Routes of a device, and how many there are in all."""

    rows: list[RouteOut]
    total: int


@router.get("/devices/{int:device}/routes", needs=VIEWER, response=RoutesOut)
def list_routes(request: HttpRequest, device: int, at: datetime | None = None, to: str = "") -> RoutesOut:
    """Where a device sends packets; ``to`` an address: only the routes that a packet to it follows."""
    get_object_or_404(Device, pk=device)
    when = past(at) or timezone.now()
    rows = list(routing.routes_at([device], when).select_related("interface"))
    total = len(rows)
    if to.strip():
        try:
            wanted = str(ipaddress.ip_address(to.strip()))
        except ValueError:
            raise Problem(422, f"{to.strip()[:60]} is not an address.", field="to") from None
        fitting = {(each.network, each.next_hop) for each in routing.table_at(device, when).find(wanted)}
        rows = [row for row in rows if (row.network, row.next_hop or "") in fitting]
    rows.sort(key=_order)
    owners = _owners({row.next_hop for row in rows[:MOST_ROUTES] if row.next_hop})
    return RoutesOut(rows=[_out(row, owners) for row in rows[:MOST_ROUTES]], total=total)


def _order(row: Route) -> tuple[int, int, int]:
    network = ipaddress.ip_network(row.network)
    return network.version, int(network.network_address), network.prefixlen


def _owners(addresses: set[str]) -> dict[str, tuple[int, str]]:
    own = OwnAddress.objects.filter(address__in=addresses, device__retired_at=None)
    return {address: (pk, name) for address, pk, name in own.values_list("address", "device_id", "device__name")}


def _out(row: Route, owners: dict[str, tuple[int, str]]) -> RouteOut:
    owner = owners.get(row.next_hop or "")
    return RouteOut(
        network=row.network,
        next_hop=row.next_hop or "",
        device_id=owner[0] if owner else None,
        device=owner[1] if owner else "",
        interface_id=row.interface_id,
        label=row.interface.label if row.interface else "",
        protocol=row.protocol,
        metric=row.metric,
        is_discarding=row.is_discarding,
        since=row.since,
    )
