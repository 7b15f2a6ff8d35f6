"""Routes: the three tables that devices have, which route a packet follows, and following them from device to device."""

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.topology.routing import (
    Ending,
    Hop,
    Route,
    RouteColumns,
    RoutingTable,
    cidr_routes,
    follow,
    old_routes,
    routes,
)

LOCAL, REMOTE, REJECT, BLACKHOLE = 3, 4, 2, 5


def columns(rows):
    """Interface, type, protocol and metric by index."""
    return RouteColumns(*({index: row[place] for index, row in rows.items()} for place in range(4)))


def inet(address):
    packed = ipaddress.ip_address(address).packed
    return (1 if len(packed) == 4 else 2, len(packed), *packed)


def row(network, next_hop="", policy=(0, 0)):
    """The index of an inetCidrRouteEntry (RFC 4292)."""
    wanted = ipaddress.ip_network(network)
    beyond = inet(next_hop) if next_hop else (0, 0)
    return (*inet(wanted.network_address), wanted.prefixlen, len(policy), *policy, *beyond)


def test_the_table_of_rfc_4292_in_both_families():
    told = routes(
        columns(
            {
                row("192.0.2.0/24"): (2, LOCAL, 2, 0),
                row("0.0.0.0/0", "192.0.2.1"): (2, REMOTE, 3, 1),
                row("2001:db8::/32", "fe80::1"): (3, REMOTE, 13, 20),
                row("198.51.100.0/24", "", (1, 2, 3, 4)): (0, BLACKHOLE, 3, -1),
            }
        )
    )
    assert told == [
        Route("192.0.2.0/24", "", 2, "connected", 0),
        Route("0.0.0.0/0", "192.0.2.1", 2, "static", 1),
        Route("2001:db8::/32", "fe80::1", 3, "OSPF", 20),
        Route("198.51.100.0/24", "", 0, "static", -1, True),
    ]
    assert told[1].is_default and not told[0].is_default


@pytest.mark.parametrize(
    "index",
    [
        (),
        (1,),
        (1, 4, 10, 0, 0),
        (1, 4, 10, 0, 0, 300, 8, 2, 0, 0, 0, 0),
        (9, 4, 10, 0, 0, 0, 8, 2, 0, 0, 0, 0),
        (1, 4, 10, 0, 0, 1, 8, 2, 0, 0, 0, 0),
        (1, 4, 10, 0, 0, 0, 99, 2, 0, 0, 0, 0),
        (1, 4, 10, 0, 0, 0, 8),
    ],
)
def test_a_row_that_is_none_is_left_out(index):
    assert routes(columns({index: (1, REMOTE, 3, 1)})) == []


def test_a_policy_that_lies_about_its_length_does_no_harm():
    wrong = (*inet("10.0.0.0"), 8, 99, 0, 0, *inet("10.0.0.1"))
    assert routes(columns({wrong: (1, REMOTE, 3, 1)})) == [Route("10.0.0.0/8", "", 1, "static", 1)]


def test_the_table_of_rfc_2096():
    told = cidr_routes(
        columns(
            {
                (10, 1, 0, 0, 255, 255, 0, 0, 0, 10, 0, 0, 1): (1, REMOTE, 14, 5),
                (10, 2, 0, 0, 255, 255, 0, 0, 8, 10, 0, 0, 1): (1, REMOTE, 14, 5),
                (10, 3, 0, 0, 255, 0, 255, 0, 0, 10, 0, 0, 1): (1, REMOTE, 14, 5),
            }
        )
    )
    assert told == [Route("10.1.0.0/16", "10.0.0.1", 1, "BGP", 5)], "no type of service, and a mask that is one"


def test_the_table_of_rfc_1213():
    rows = {(10, 0, 0, 0): (1, LOCAL, 2, 0), (0, 0, 0, 0): (1, REMOTE, 3, 1), (10, 9, 0, 0): (1, REJECT, 3, 1)}
    hops = {(10, 0, 0, 0): b"\x0a\0\0\x01", (0, 0, 0, 0): b"\x0a\0\0\xfe", (10, 9, 0, 0): b"\x0a\0\0\xfe"}
    masks = {(10, 0, 0, 0): b"\xff\0\0\0", (0, 0, 0, 0): b"\0\0\0\0", (10, 9, 0, 0): b"\xff\xff\0\0"}
    assert old_routes(columns(rows), hops, masks) == [
        Route("10.0.0.0/8", "", 1, "connected", 0),
        Route("0.0.0.0/0", "10.0.0.254", 1, "static", 1),
    ], "one that is invalid is none"
    assert old_routes(columns(rows), hops, {}) == []


addresses = st.integers(0, 2**32 - 1).map(lambda number: str(ipaddress.IPv4Address(number)))
near = st.integers(0, 255).map(lambda number: f"10.0.0.{number}")
networks = st.builds(
    lambda address, length: str(ipaddress.ip_network((address, length), strict=False)),
    st.one_of(addresses, near),
    st.integers(0, 32),
)
tables = st.lists(
    st.builds(Route, networks, st.just("192.0.2.1"), st.just(1), st.just(""), st.integers(-1, 5)), max_size=30
)


@given(tables, st.one_of(addresses, near))
def test_the_longest_prefix_and_then_the_lowest_metric_decide(table, address):
    wanted = ipaddress.ip_address(address)
    fitting = [each for each in table if wanted in ipaddress.ip_network(each.network)]
    longest = max((ipaddress.ip_network(each.network).prefixlen for each in fitting), default=-1)
    best = [each for each in fitting if ipaddress.ip_network(each.network).prefixlen == longest]
    least = min((each.metric for each in best), default=0)
    assert RoutingTable(table).find(address) == [each for each in best if each.metric == least]


def test_addresses_of_the_other_family_find_nothing():
    table = RoutingTable([Route("0.0.0.0/0", "192.0.2.1")])
    assert table.find("2001:db8::1") == [] and table.find("203.0.113.5")


class Routers:
    """Routers that are known by their numbers; n has the address 192.0.2.n."""

    def __init__(self, **tables):
        self.tables = {int(name[1:]): RoutingTable(table) for name, table in tables.items()}

    def follow(self, start, address):
        return follow(start, address, lambda device: self.tables.get(device, RoutingTable([])), self.owner)

    def owner(self, address):
        number = int(address.split(".")[-1])
        return number if address.startswith("192.0.2.") and number in self.tables else None


def to(number, network="0.0.0.0/0"):
    return Route(network, f"192.0.2.{number}", 7, "static", 1)


def test_a_packet_is_followed_to_the_network_that_it_is_for():
    near = Route("10.0.0.0/8", "", 1, "connected", 0)
    way = Routers(r1=[to(2)], r2=[to(3, "10.0.0.0/8"), to(1)], r3=[near]).follow(1, "10.9.9.9")
    assert way.ending is Ending.DELIVERED
    assert way.hops == [Hop(1, [to(2)]), Hop(2, [to(3, "10.0.0.0/8")]), Hop(3, [near])]


def test_a_router_that_is_the_goal_ends_it():
    way = Routers(r1=[to(2)], r2=[]).follow(1, "192.0.2.2")
    assert way.ending is Ending.DELIVERED and [each.device for each in way.hops] == [1, 2]


@pytest.mark.parametrize(
    ("tables", "ending", "devices"),
    [
        ({"r1": [to(2)], "r2": []}, Ending.NOT_TOLD, [1, 2]),
        ({"r1": [to(2)], "r2": [to(3, "172.16.0.0/12")]}, Ending.NO_ROUTE, [1, 2]),
        ({"r1": [to(2)], "r2": [to(1)]}, Ending.LOOP, [1, 2]),
        ({"r1": [to(77)]}, Ending.OUTSIDE, [1]),
        ({"r1": [Route("10.0.0.0/8", "", 3, "static", 1)]}, Ending.OUTSIDE, [1]),
        ({"r1": [Route("0.0.0.0/0", "", 3, "connected", 0)]}, Ending.OUTSIDE, [1]),
        ({"r1": [Route("10.0.0.0/8", "", 0, "static", 1, True)]}, Ending.DISCARDED, [1]),
    ],
)
def test_it_is_said_how_following_ended(tables, ending, devices):
    way = Routers(**tables).follow(1, "10.9.9.9")
    assert (way.ending, [each.device for each in way.hops]) == (ending, devices)


@given(st.dictionaries(st.integers(1, 9), st.integers(1, 9), min_size=1))
def test_following_always_ends_and_passes_nobody_twice(following):
    routers = Routers(**{f"r{number}": [to(after)] for number, after in following.items()})
    way = routers.follow(next(iter(following)), "10.9.9.9")
    devices = [each.device for each in way.hops]
    assert len(set(devices)) == len(devices)
    assert way.ending in (Ending.LOOP, Ending.OUTSIDE)
