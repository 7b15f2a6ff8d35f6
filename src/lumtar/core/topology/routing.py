"""Where a device sends packets: IP-FORWARD-MIB's inetCidrRouteTable (RFC 4292), and the tables that older devices have in its place."""

import ipaddress
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

from lumtar.core.topology.addressing import SIZES, Column, Index, inet_address, prefix_length

Network = ipaddress.IPv4Network | ipaddress.IPv6Network
REJECT, LOCAL, BLACKHOLE = 2, 3, 5
"""Of inetCidrRouteType; the older tables have the same numbers but for the last one."""
INVALID = 2
"""Of ipRouteType, which rejects nothing."""
CONNECTED = 2
"""Of IANAipRouteProtocol: an interface has the network."""
PROTOCOLS = {
    1: "other", 2: "connected", 3: "static", 4: "ICMP", 8: "RIP", 9: "IS-IS", 13: "OSPF", 14: "BGP", 16: "EIGRP", 17: "DVMRP",
}  # fmt: skip
"""IANAipRouteProtocol, as people call it."""
UNKNOWN_METRIC = -1


@dataclass(frozen=True, slots=True)
class Route:
    """A route.

    Attributes
    ----------
    network : what it leads to, as an address with the length of its prefix
    next_hop : the router to which packets are sent; empty if the network is connected
    if_index : 0 if the device does not tell it
    protocol : who told of it
    metric : -1 if it is not known
    is_discarding : packets are dropped
    """

    network: str
    next_hop: str = ""
    if_index: int = 0
    protocol: str = ""
    metric: int = UNKNOWN_METRIC
    is_discarding: bool = False

    @property
    def is_default(self) -> bool:
        """Whether it is for whatever no other one is for."""
        return self.network.endswith("/0")


@dataclass(frozen=True, slots=True)
class RouteColumns:
    """The columns of a table of routes by row; a row is left out if its interface is missing."""

    if_index: Column
    kind: Column
    protocol: Column
    metric: Column


def routes(table: RouteColumns) -> list[Route]:
    """The routes of inetCidrRouteTable: address, prefix, policy and next hop stand in the index."""
    found = []
    for index in table.if_index:
        destination, rest = _take_address(index)
        if not destination or len(rest) < 2:
            continue
        length, policy = rest[0], rest[1]
        next_hop, _ = _take_address(rest[2 + policy :])
        if route := _route(destination, length, next_hop, index, table):
            found.append(route)
    return found


def cidr_routes(table: RouteColumns) -> list[Route]:
    """The routes of ipCidrRouteTable (RFC 2096): address, mask, type of service and next hop stand in the index."""
    found = []
    for index in table.if_index:
        if len(index) != 13 or index[8]:
            # Routes for one type of service are not what other packets follow.
            continue
        length = prefix_length(_octets(index[4:8]))
        if length is not None and (route := _route(_v4(index[:4]), length, _v4(index[9:]), index, table)):
            found.append(route)
    return found


def old_routes(table: RouteColumns, next_hops: Column, masks: Column) -> list[Route]:
    """The routes of ipRouteTable (RFC 1213): one a destination, which alone stands in the index."""
    found = []
    for index in table.if_index:
        mask, hop = masks.get(index), next_hops.get(index)
        length = prefix_length(mask)
        if len(index) != 4 or length is None or table.kind.get(index) == INVALID:
            continue
        next_hop = _v4(tuple(hop)) if isinstance(hop, bytes) and len(hop) == 4 else ""
        if route := _route(_v4(index), length, next_hop, index, table):
            found.append(route)
    return found


def _route(destination: str, length: int, next_hop: str, index: Index, table: RouteColumns) -> Route | None:
    try:
        network = ipaddress.ip_network(f"{destination}/{length}")
    except ValueError:
        return None
    kind, interface, protocol, metric = (
        column.get(index) for column in (table.kind, table.if_index, table.protocol, table.metric)
    )
    is_connected = kind == LOCAL or not next_hop or ipaddress.ip_address(next_hop).is_unspecified
    return Route(
        str(network),
        "" if is_connected else next_hop,
        interface if isinstance(interface, int) else 0,
        PROTOCOLS.get(protocol, "") if isinstance(protocol, int) else "",
        metric if isinstance(metric, int) and metric >= 0 else UNKNOWN_METRIC,
        kind in (REJECT, BLACKHOLE),
    )


def _take_address(numbers: Index) -> tuple[str, Index]:
    """The InetAddress at the beginning of some numbers, and what follows it; empty if it is none, or unknown (type 0)."""
    if len(numbers) < 2:
        return "", ()
    size = 2 + numbers[1]
    return inet_address(numbers[:size]) if numbers[0] in SIZES else "", numbers[size:]


def _v4(octets: Sequence[int]) -> str:
    return ".".join(map(str, octets)) if len(octets) == 4 and all(0 <= each < 256 for each in octets) else ""


def _octets(numbers: Sequence[int]) -> bytes | None:
    return bytes(numbers) if all(0 <= each < 256 for each in numbers) else None


@dataclass(frozen=True)
class RoutingTable:
    """The routes of a device, to look addresses up in."""

    routes: Sequence[Route]

    @cached_property
    def _by_network(self) -> Mapping[Network, list[Route]]:
        found: dict[Network, list[Route]] = {}
        for route in self.routes:
            found.setdefault(ipaddress.ip_network(route.network), []).append(route)
        return found

    def find(self, address: str) -> list[Route]:
        """The routes that a packet to an address follows: of the longest prefix those with the lowest metric; none if there is no route."""
        wanted = ipaddress.ip_address(address)
        for length in range(wanted.max_prefixlen, -1, -1):
            network = ipaddress.ip_network((wanted, length), strict=False)
            if fitting := self._by_network.get(network):
                least = min(each.metric for each in fitting)
                return [each for each in fitting if each.metric == least]
        return []


class Ending(StrEnum):
    """How following routes ended."""

    DELIVERED = "delivered"
    """The last device is the goal, or in its network."""
    NOT_TOLD = "not told"
    """The last device tells nothing of its routes."""
    NO_ROUTE = "no route"
    DISCARDED = "discarded"
    OUTSIDE = "outside"
    """The last device sends it to a router that is not in the inventory, or over an interface where none is named."""
    LOOP = "loop"
    """It would come back to where it was."""


@dataclass(frozen=True, slots=True)
class Hop:
    """A device on a way, with the routes that a packet follows there; they are equal, the first one is taken."""

    device: int
    routes: Sequence[Route] = ()


@dataclass(frozen=True, slots=True)
class RoutedWay:
    """The devices that route a packet, in their order, and how that ended."""

    hops: Sequence[Hop]
    ending: Ending


MOST_HOPS = 64


def follow(
    start: int, address: str, table_of: Callable[[int], RoutingTable], owner_of: Callable[[str], int | None]
) -> RoutedWay:
    """Follow the routes to an address from a device on, as RFC 1812 section 5.2.4.3 has it: the longest prefix, then the lowest metric.

    Parameters
    ----------
    owner_of : the device that has an address; None if that is not known
    """
    hops: list[Hop] = []
    device = start
    while True:
        if any(each.device == device for each in hops) or len(hops) == MOST_HOPS:
            return RoutedWay(hops, Ending.LOOP)
        if owner_of(address) == device:
            return RoutedWay([*hops, Hop(device)], Ending.DELIVERED)
        table = table_of(device)
        fitting = table.find(address)
        hops.append(Hop(device, fitting))
        if not fitting:
            return RoutedWay(hops, Ending.NO_ROUTE if table.routes else Ending.NOT_TOLD)
        route = fitting[0]
        if route.is_discarding:
            return RoutedWay(hops, Ending.DISCARDED)
        if not route.next_hop:
            is_near = route.protocol == PROTOCOLS[CONNECTED] and not route.is_default
            return RoutedWay(hops, Ending.DELIVERED if is_near else Ending.OUTSIDE)
        following = owner_of(route.next_hop)
        if following is None:
            return RoutedWay(hops, Ending.OUTSIDE)
        device = following
