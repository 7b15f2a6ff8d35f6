"""Reading bridges and addresses: from stand-ins, from a table of 50,000 entries, and from an agent that is not ours."""

import asyncio
import socket
import time

import pytest

from bench.ports import free_port
from lab.agent import Agent
from lab.bridging import MANAGEMENT, PUBLIC, STAFF, host_at
from lab.builder import build
from lab.device import Device as StandIn
from lab.device import chassis
from lab.lldp import Cabling
from lab.mib import Column
from lumtar.core.topology.bridging import Role
from lumtar.core.topology.macs import mac_number, mac_text
from lumtar.engine.collector.bridging import read_addresses, read_bridge
from lumtar.wire import ber, oids
from lumtar.wire.faults import Fault, FaultKind
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


def session(transport, running, community=COMMUNITY):
    return Session(transport, socket.AF_INET, running.address, Community(community), QUICK)


async def told_by(transport, device, loopback, read):
    running = Agent(device, next(loopback), free_port(), COMMUNITY)
    try:
        return await read(session(transport, running))
    finally:
        running.close()


async def test_a_switch_tells_who_is_where_in_which_vlan(transport, county, loopback):
    devices, _ = county
    switch = devices["hex-acc-1"]
    told = await told_by(transport, switch, loopback, read_bridge)
    port = next(each for each in switch.box.ports if each.alias.startswith("Reading room"))
    at = {int(mac): (int(index), int(vlan)) for mac, index, vlan in told.forwarding.rows.tolist()}
    assert at[host_at(switch.box, port).mac] == (port.index, PUBLIC)
    uplink = switch.box.port("x1").index
    router = mac_number(chassis(devices["hex-wan-1"].box).hex(":"))
    assert {(int(i), int(v)) for m, i, v in told.forwarding.rows.tolist() if m == router} >= {
        (uplink, STAFF),
        (uplink, MANAGEMENT),
    }
    assert told.address == mac_text(mac_number(chassis(switch.box).hex(":")))
    assert told.tree.root.endswith(told.address) and told.tree.root_port is None
    assert told.ports[uplink].tagged == (10, 20, 30, 40, 99) and told.ports[port.index].untagged == (PUBLIC,)
    assert told.vlans[PUBLIC] == "Public"


async def test_switches_agree_on_a_root_and_aggregates_carry_for_their_members(transport, county, loopback):
    devices, _ = county
    core, access = [
        await told_by(transport, devices[name], loopback, read_bridge) for name in ("cen-core-2", "cen-acc-2")
    ]
    assert core.tree.root == access.tree.root
    assert access.tree.roles[devices["cen-acc-2"].box.port("x1").index] is Role.ROOT
    members = {devices["cen-core-2"].box.port(name).index for name in ("t4", "t5")}
    assert core.aggregates == dict.fromkeys(members, 1001)
    assert not members & {int(port) for port in core.forwarding.rows["port"]}
    assert 1001 in {int(port) for port in core.forwarding.rows["port"]}


async def test_a_router_tells_its_addresses_and_whom_it_knows(transport, county, loopback):
    devices, _ = county
    told = await told_by(transport, devices["hex-wan-1"], loopback, read_addresses)
    assert {(each.address, each.prefix) for each in told.own} >= {("10.9.20.1", 24)}
    switch = devices["hex-acc-1"]
    port = next(each for each in switch.box.ports if each.alias.startswith("Reading room"))
    host = host_at(switch.box, port)
    known = {each.address: each.mac for each in told.bindings}
    assert all(known[address] == mac_text(host.mac) for address in host.addresses)
    assert any(":" in each.address for each in told.bindings), "both families"


async def test_who_is_behind_a_pulled_cable_is_heard_no_more(transport, county, loopback):
    devices, _ = county
    switch, uplink = devices["cen-acc-2"], devices["cen-acc-2"].box.port("x1").index
    before = await told_by(transport, switch, loopback, read_bridge)
    switch.set_link(uplink, False)
    try:
        after = await told_by(transport, switch, loopback, read_bridge)
    finally:
        switch.set_link(uplink, True)
    assert uplink in {int(port) for port in before.forwarding.rows["port"]}
    assert uplink not in {int(port) for port in after.forwarding.rows["port"]}
    assert after.tree.roles[uplink] is Role.DISABLED
    assert (after.tree.changes or 0) > (before.tree.changes or 0)


async def test_a_device_that_is_no_bridge_is_none(transport, loopback):
    running = agent_of(box(address=next(loopback)), free_port(), time.time())
    try:
        assert await read_bridge(session(transport, running)) is None
        told = await read_addresses(session(transport, running))
        assert told.own == () and told.bindings == ()
    finally:
        running.close()


def crowd(number):
    """A forwarding table of so many stations at port 1, in VLAN 1."""
    indexes = [ber.subidentifiers([1, *(0x020000000000 + each).to_bytes(6, "big")]) for each in range(number)]
    values = [ber.integer(1)] * number
    return Column(oids.DOT1Q_FORWARDING_PORT, indexes, lambda at: values)


async def test_fifty_thousand_entries_are_read_whole_and_more_than_can_be_is_said(transport, loopback, monkeypatch):
    running = agent_of(box(address=next(loopback)), free_port(), time.time())
    try:
        running.device.tell([crowd(50_000)])
        beats = []

        async def beat():
            while True:
                beats.append(time.monotonic())
                await asyncio.sleep(0.01)

        beating = asyncio.create_task(beat())
        told = await read_bridge(session(transport, running))
        beating.cancel()
        assert len(told.forwarding) == 50_000 and set(told.forwarding.rows["vlan"].tolist()) == {1}
        assert len(beats) > 20, "others had their turns meanwhile"
        monkeypatch.setattr("lumtar.engine.collector.bridging.MOST_STATIONS", 1_000)
        with pytest.raises(Fault, match="more than 1,000 rows") as caught:
            await read_bridge(session(transport, running))
        assert caught.value.kind is FaultKind.LOOP
    finally:
        running.close()


async def test_addresses_of_an_agent_that_is_not_ours(transport, snmpd):
    told = await read_addresses(
        Session(transport, socket.AF_INET, ("127.0.0.1", snmpd.port), Community("correct-word"), QUICK)
    )
    own = {each.address: each for each in told.own}
    assert own["127.0.0.1"].prefix == 8
    assert told.mtus[own["127.0.0.1"].if_index] >= 1500
