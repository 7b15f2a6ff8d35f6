"""By which devices packets between two ends are routed at a time, and what is to be said of that."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from django.db import connection
from django.utils import timezone

from lumtar.core.topology.routing import Ending, Route, RoutedWay, RoutingTable, follow
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.reports.ends import Place
from lumtar.domain.topology import routing
from lumtar.domain.topology.models import OwnAddress


@dataclass(frozen=True, slots=True)
class Gateway:
    """The device that leads out of an address's network, with its own address there."""

    device: int
    name: str
    address: str
    network: str


GATEWAY = """SELECT o.device_id, d.name, host(o.address), network(set_masklen(o.address, o.prefix))::text
    FROM topology_ownaddress o JOIN inventory_device d ON d.id = o.device_id
    WHERE d.retired_at IS NULL AND o.prefix > 0 AND host(o.address) <> %(address)s
        AND family(o.address) = family(%(address)s::inet) AND o.prefix < masklen(%(address)s::inet)
        AND set_masklen(o.address, o.prefix) >> %(address)s::inet
    ORDER BY o.prefix DESC, o.address, o.device_id LIMIT 1"""


def gateway(address: str) -> Gateway | None:
    """The device that has an address of its own in the network of another address; the longest prefix wins, then the lowest address."""
    if not address:
        return None
    with connection.cursor() as cursor:
        cursor.execute(GATEWAY, {"address": address})
        found = cursor.fetchone()
    return Gateway(*found) if found else None


@dataclass(frozen=True, slots=True)
class Routed:
    """The devices that route packets between two ends, in their order, beside the ends themselves, and what is to be said of it.

    ``leaving`` is the interface over which packets leave a device, where it is known.
    """

    devices: Sequence[int] = ()
    notes: Sequence[str] = ()
    leaving: Mapping[int, int] = field(default_factory=dict)


def between(begin: Place, end: Place, past: datetime | None) -> Routed:
    """By what packets between two ends are routed.

    Ends in the same network are not routed; where the routes of a device are not known, the gateway of the other end's network is next.
    """
    out, into = gateway(begin.address), gateway(end.address)
    if out is not None and into is not None and out.network == into.network:
        return Routed(notes=[f"Both are in {out.network}: nothing between them is routed"])
    return _Following(past or timezone.now()).between(begin, end, out, into)


class _Following:
    """Follows routes at a time; what was looked up is remembered."""

    def __init__(self, at: datetime) -> None:
        self._at = at
        self._tables: dict[int, RoutingTable] = {}
        self._owners: dict[str, int | None] = {}

    def between(self, begin: Place, end: Place, out: Gateway | None, into: Gateway | None) -> Routed:
        goal, source = end.address or self._address(end.device), begin.address or self._address(begin.device)
        first = out.device if out is not None else begin.device
        if not goal or not (out or self._table(first).routes):
            return _over_gateways(begin, end, out, into)
        way = follow(first, goal, self._table, self._owner)
        notes = [*(_of_gateway(out) if out else []), *self._told(way, goal)]
        devices = [each.device for each in way.hops]
        if way.ending is Ending.NOT_TOLD and into is not None:
            devices.append(into.device)
            notes += _of_gateway(into)
        if way.ending is Ending.DELIVERED and source:
            back = follow(into.device if into is not None else end.device, source, self._table, self._owner)
            ends = {begin.device, end.device}
            if back.ending is not Ending.NOT_TOLD and {each.device for each in back.hops} - ends != {*devices} - ends:
                notes.append(self._back(back, source))
        inner = [each for each in dict.fromkeys(devices) if each not in (begin.device, end.device)]
        leaving = {each.device: each.routes[0].if_index for each in way.hops if each.routes}
        return Routed(inner, notes, leaving)

    def _back(self, way: RoutedWay, source: str) -> str:
        """What is to be said of a way back that is another one."""
        if way.ending is not Ending.DELIVERED:
            return f"The way back is not the same: {'; '.join(self._told(way, source))}"
        names = _names([each.device for each in way.hops])
        return f"The way back is another one, by {', '.join(names[each.device] for each in way.hops)}"

    def _told(self, way: RoutedWay, goal: str) -> list[str]:
        """Each step in a sentence."""
        names = _names([each.device for each in way.hops])
        ports = _ports([route.if_index for each in way.hops for route in each.routes])
        notes = []
        for place, hop in enumerate(way.hops):
            name, is_last = names[hop.device], place == len(way.hops) - 1
            if not hop.routes:
                if is_last and way.ending is Ending.NOT_TOLD:
                    notes.append(f"{name} tells nothing of its routes")
                elif is_last and way.ending is Ending.NO_ROUTE:
                    notes.append(f"{name} has no route to {goal}: packets end there")
                continue
            route = hop.routes[0]
            if route.is_discarding:
                notes.append(f"{name} drops what is for {route.network}{_by(route)}")
                continue
            port = f" over {ports[route.if_index]}" if route.if_index in ports else ""
            if not route.next_hop:
                words = (
                    f"is in {route.network} itself"
                    if way.ending is Ending.DELIVERED
                    else f"sends {route.network}{port}"
                )
                notes.append(f"{name} {words}{_by(route) if way.ending is not Ending.DELIVERED else port}")
            else:
                after = names[way.hops[place + 1].device] if not is_last else self._beyond(route, way.ending, names)
                notes.append(f"{name} sends {route.network}{_by(route)}{port} to {after}")
            if others := [each.next_hop for each in hop.routes[1:] if each.next_hop]:
                notes[-1] += f"; as good: {', '.join(others)}"
        return notes

    def _beyond(self, route: Route, ending: Ending, names: dict[int, str]) -> str:
        owner = self._owner(route.next_hop)
        if ending is Ending.LOOP and owner is not None:
            return f"{names.get(owner, route.next_hop)}, which has sent it here already: it goes round in circles"
        return f"{route.next_hop}, which is not in the inventory"

    def _table(self, device: int) -> RoutingTable:
        if device not in self._tables:
            self._tables[device] = routing.table_at(device, self._at)
        return self._tables[device]

    def _owner(self, address: str) -> int | None:
        """The device that has an address; None if none is known, or several have it."""
        if address not in self._owners:
            rows = OwnAddress.objects.filter(address=address, device__retired_at=None)
            found = set(rows.values_list("device_id", flat=True))
            found |= set(Device.objects.filter(address=address, retired_at=None).values_list("pk", flat=True))
            self._owners[address] = found.pop() if len(found) == 1 else None
        return self._owners[address]

    @staticmethod
    def _address(device: int) -> str:
        """An address of a device that others have routes to."""
        rows = OwnAddress.objects.filter(device=device).order_by("address").values_list("address", flat=True)
        return rows.first() or ""


def _by(route: Route) -> str:
    """Where a route comes from, in brackets."""
    return f" ({route.protocol})" if route.protocol else ""


def _of_gateway(gateway: Gateway) -> list[str]:
    return [f"{gateway.network} is routed by {gateway.name} ({gateway.address})"]


def _over_gateways(begin: Place, end: Place, out: Gateway | None, into: Gateway | None) -> Routed:
    """Where no routes are known: by the gateways of both networks."""
    known = [each for each in (out, into) if each is not None]
    devices = dict.fromkeys(each.device for each in known if each.device not in (begin.device, end.device))
    notes = (
        [note for each in dict.fromkeys(known) for note in _of_gateway(each)] if begin.address and end.address else []
    )
    return Routed(list(devices), notes)


def _names(devices: Sequence[int]) -> dict[int, str]:
    return dict(Device.objects.filter(pk__in=devices).values_list("pk", "name"))


def _ports(numbers: Sequence[int]) -> dict[int, str]:
    """What interfaces are called."""
    rows = Interface.objects.filter(pk__in=numbers).values_list("pk", "name", "label")
    return {pk: name or label for pk, name, label in rows}
