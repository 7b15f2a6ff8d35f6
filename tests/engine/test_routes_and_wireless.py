"""Reading routes and wireless clients: from stand-ins and from an agent that is not ours; what the collector keeps of it."""

import socket
import subprocess
import time

import pytest

from bench.ports import free_port
from lab import wireless as lab_wireless
from lab.agent import Agent
from lab.bridging import host_at
from lab.builder import build
from lab.device import Device as StandIn
from lab.lldp import Cabling
from lab.mib import Column
from lumtar.core.own_tables import check_wireless_tables
from lumtar.core.topology.routing import RoutingTable
from lumtar.engine.collector.routing import read_routes
from lumtar.engine.collector.wireless import read_wireless
from lumtar.wire import ber, oids
from lumtar.wire.session import Community, Patience, Session
from lumtar.wire.transport import Transport
from tests.lab.boxes import COMMUNITY, box
from tests.lab.boxes import agent as agent_of

QUICK = Patience(2.0, 2)


@pytest.fixture
async def transport():
    made = Transport()
    yield made
    made.close()


@pytest.fixture(scope="module")
def county():
    """The county's devices with their cables; no agent runs."""
    built = build()
    devices = {each.name: StandIn(built, each, time.time(), time.time, ()) for each in built.boxes}
    return devices, Cabling(built, devices)


async def told_by(transport, device, loopback, read):
    running = Agent(device, next(loopback), free_port(), COMMUNITY)
    try:
        return await read(Session(transport, socket.AF_INET, running.address, Community(COMMUNITY), QUICK))
    finally:
        running.close()


async def test_a_branch_sends_everything_over_its_better_transport(transport, county, loopback):
    devices, _ = county
    router = devices["hex-wan-1"]
    table = RoutingTable(await told_by(transport, router, loopback, read_routes))
    (best,) = table.find("203.0.113.9")
    assert (best.next_hop, best.if_index, best.protocol, best.metric) == ("10.250.0.1", 1, "BGP", 10)
    assert table.find("2001:db8:ffff::1")[0].next_hop == "2001:db8:fa:a::1"
    assert table.find("10.9.20.77")[0].protocol == "connected"
    router.set_link(1, False)
    try:
        after = RoutingTable(await told_by(transport, router, loopback, read_routes))
        middle = RoutingTable(await told_by(transport, devices["cen-wan-1"], loopback, read_routes))
    finally:
        router.set_link(1, True)
    assert after.find("203.0.113.9")[0].next_hop == "10.251.0.1", "the other transport"
    assert middle.find("10.9.20.77")[0].next_hop == "10.252.0.2", "and the way back goes by the depot"


async def test_a_device_without_routes_tells_none(transport, loopback):
    running = agent_of(box(address=next(loopback)), free_port(), time.time())
    try:
        assert await read_routes(Session(transport, socket.AF_INET, running.address, Community(COMMUNITY), QUICK)) == []
    finally:
        running.close()


def old_table(rows, *columns):
    """A table of encoded columns, each a column number with the values of all rows."""
    indexes = [ber.subidentifiers(list(row)) for row in rows]
    return [Column(oid, indexes, lambda at, told=told: told) for oid, told in columns]


async def test_older_tables_are_read_where_there_is_no_newer_one(transport, loopback):
    running = agent_of(box(address=next(loopback)), free_port(), time.time())
    asked = Session(transport, socket.AF_INET, running.address, Community(COMMUNITY), QUICK)
    if_index, kind, protocol, metric = oids.IP_ROUTE.columns
    try:
        running.device.tell(
            old_table(
                [(0, 0, 0, 0), (10, 0, 0, 0)],
                (if_index, [ber.integer(2), ber.integer(1)]),
                (kind, [ber.integer(4), ber.integer(3)]),
                (protocol, [ber.integer(3), ber.integer(2)]),
                (metric, [ber.integer(1), ber.integer(-1)]),
                (
                    oids.IP_ROUTE_NEXT_HOP,
                    [ber.tlv(ber.IP_ADDRESS, b"\x0a\0\0\xfe"), ber.tlv(ber.IP_ADDRESS, b"\x0a\0\0\x01")],
                ),
                (oids.IP_ROUTE_MASK, [ber.tlv(ber.IP_ADDRESS, b"\0\0\0\0"), ber.tlv(ber.IP_ADDRESS, b"\xff\0\0\0")]),
            )
        )
        told = {each.network: each for each in await read_routes(asked)}
        assert told["0.0.0.0/0"].next_hop == "10.0.0.254" and told["0.0.0.0/0"].if_index == 2
        assert told["10.0.0.0/8"].next_hop == "" and told["10.0.0.0/8"].metric == -1
        if_index, kind, protocol, metric = oids.IP_CIDR_ROUTE.columns
        running.device.tell(
            old_table(
                [(10, 1, 0, 0, 255, 255, 0, 0, 0, 10, 0, 0, 1)],
                (if_index, [ber.integer(2)]),
                (kind, [ber.integer(4)]),
                (protocol, [ber.integer(13)]),
                (metric, [ber.integer(20)]),
            )
        )
        (only,) = await read_routes(asked)
        assert (only.network, only.next_hop, only.protocol) == ("10.1.0.0/16", "10.0.0.1", "OSPF")
    finally:
        running.close()


async def test_the_routes_of_the_internet_at_large_are_left_where_they_are(transport, county, loopback, monkeypatch):
    monkeypatch.setattr("lumtar.engine.collector.routing.MOST_ROUTES", 5)
    devices, _ = county
    assert await told_by(transport, devices["hex-wan-1"], loopback, read_routes) is None


async def test_routes_of_an_agent_that_is_not_ours(transport, snmpd):
    """Debian's snmpd tells the routes of this machine, which iproute2 tells as well."""
    told = await read_routes(
        Session(transport, socket.AF_INET, ("127.0.0.1", snmpd.port), Community("correct-word"), QUICK)
    )
    listed = subprocess.run(["ip", "-4", "route", "show", "table", "main"], capture_output=True, text=True, check=False)
    if not listed.stdout:
        pytest.skip("this machine has no routes, or nothing that tells them")
    networks = {each.network for each in told}
    for line in listed.stdout.splitlines():
        first = line.split()[0]
        if first == "default":
            assert "0.0.0.0/0" in networks
        elif "/" in first:
            assert first in networks


async def test_a_controller_tells_its_access_points_and_who_is_there(transport, county, loopback):
    devices, cabling = county
    controller, tables = devices["cen-wlc-1"], check_wireless_tables(lab_wireless.TABLES)
    told = await told_by(transport, controller, loopback, lambda asked: read_wireless(asked, tables))
    by_name = {each.name: each for each in told.points}
    switch = devices["hex-acc-1"].box
    port = next(each for each in switch.ports if each.alias == "hex-ap-1")
    host = host_at(switch, port)
    point = by_name["hex-ap-1"]
    assert point.mac == host.mac.to_bytes(6, "big").hex(":") and point.address == host.addresses[0] and point.is_up
    here = [each for each in told.clients if each.point == point.key]
    assert len(here) >= 12 and {each.network for each in here} == {lab_wireless.PUBLIC, lab_wireless.STAFF}
    assert all(each.signal_dbm is not None and -90 < each.signal_dbm < -40 for each in here)
    devices["hex-acc-1"].set_link(port.index, False)
    cabling.roam()
    try:
        after = await told_by(transport, controller, loopback, lambda asked: read_wireless(asked, tables))
    finally:
        devices["hex-acc-1"].set_link(port.index, True)
    gone = next(each for each in after.points if each.name == "hex-ap-1")
    assert gone.is_up is False and not [each for each in after.clients if each.point == gone.key]


async def test_tables_that_are_not_there_tell_of_nobody(transport, loopback):
    running = agent_of(box(address=next(loopback)), free_port(), time.time())
    tables = check_wireless_tables(lab_wireless.TABLES)
    try:
        asked = Session(transport, socket.AF_INET, running.address, Community(COMMUNITY), QUICK)
        told = await read_wireless(asked, tables)
        assert not told.points and not told.clients
    finally:
        running.close()
