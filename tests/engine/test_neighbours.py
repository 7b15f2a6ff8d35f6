"""Asking devices for their neighbours, and what is kept of it over time."""

import time
from datetime import UTC, datetime, timedelta

import pytest
from asgiref.sync import sync_to_async

from bench.ports import free_port
from lab.agent import Agent
from lab.device import Device as StandIn
from lab.device import chassis
from lab.lldp import Cabling
from lab.mib import Column, text
from lab.scenario import Box, Port
from lumtar.core.topology import Evidence, Identifier
from lumtar.core.topology import Neighbour as Told
from lumtar.core.topology.identifiers import IdKind
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.topology import looks, neighbours, queries
from lumtar.domain.topology.looks import Looked
from lumtar.domain.topology.models import Neighbour, NeighbourLook
from lumtar.wire import ber
from lumtar.wire.ber import oid_body
from tests.engine.conftest import add, collecting, eventually
from tests.lab.boxes import COMMUNITY, scenario

NOW = datetime.now(UTC).replace(microsecond=0)


class TestCollecting:
    """Through the real collector, from stand-ins that answer by SNMP."""

    pytestmark = pytest.mark.django_db(transaction=True)

    @pytest.fixture(autouse=True)
    def often(self, monkeypatch):
        monkeypatch.setattr("lumtar.engine.collector.surroundings.EVERY_S", 1.0)

    @pytest.fixture
    async def pair(self, loopback):
        """A switch and a router with a cable between them."""
        switch, router = (
            Box("tst-acc-1", "Test", "acc", next(loopback)),
            Box("tst-wan-1", "Test", "wan", next(loopback)),
        )
        switch.ports = [Port(1, "g1", "Desk"), Port(25, "x1", "Uplink to tst-wan-1")]
        router.ports = [Port(1, "wan1", "Transport A"), Port(3, "lan1", "To tst-acc-1")]
        made = scenario([switch, router])
        devices = {box.name: StandIn(made, box, time.time(), time.time, ()) for box in (switch, router)}
        Cabling(made, devices)
        agents = [Agent(each, each.box.address, free_port(), COMMUNITY) for each in devices.values()]
        yield devices, agents
        for each in agents:
            each.close()

    async def test_a_cable_becomes_a_link_and_one_that_is_pulled_ends_it(self, pair):
        devices, agents = pair
        for each in agents:
            await sync_to_async(add)(each)
        async with collecting():

            def links():
                return queries.links_at(datetime.now(UTC))

            (seen,) = await eventually(lambda: [each for each in links() if each.link.evidence == Evidence.BOTH_ENDS])
            ends = {port.name async for port in Interface.objects.filter(pk__in=[seen.link.a.port, seen.link.b.port])}
            assert ends == {"x1", "lan1"}
            look = await NeighbourLook.objects.afirst()
            assert look.neighbours == 1 and 3 <= look.requests <= 30 and not look.problem
            devices["tst-acc-1"].set_link(25, False)
            await eventually(lambda: not links())
            assert await eventually(lambda: Entry.objects.filter(kind="topology").count() >= 2)
        was = await sync_to_async(queries.links_at)(seen.since)
        assert [each.link for each in was] == [seen.link], "the past shows it as it was"

    async def test_the_later_mib_is_read_where_there_is_no_other(self, pair):
        devices, agents = pair
        router = devices["tst-wan-1"]
        row = ber.subidentifiers([0, 25, 1, 1])
        values = [
            ber.integer(4), text(chassis(router.box)), ber.integer(5), text(b"lan1"), text(b""), text(b"tst-wan-1"), text(b""),
        ]  # fmt: skip
        devices["tst-acc-1"].tell(
            [
                Column(oid_body(f"1.3.111.2.802.1.1.13.1.4.1.1.{5 + place}"), [row], lambda at, value=value: [value])
                for place, value in enumerate(values)
            ]
        )
        await sync_to_async(add)(agents[0])
        async with collecting():
            found = await eventually(Neighbour.objects.select_related("interface").first)
        assert (found.interface.name, found.chassis_kind, found.port, found.to_device) == (
            "x1", "MAC address", "lan1", None,
        )  # fmt: skip
        assert found.reason == "no device of the inventory"


def told(port="x1", chassis="02:00:00:00:00:01", other="lan1", **more):
    return Told(25, port, Identifier(IdKind.MAC, chassis), Identifier(IdKind.NAME, other), **more)


@pytest.fixture
def devices(db):
    """A switch, and a router that it is connected to."""
    made = []
    for name, number, mac, port in (("sw", 1, "02:00:00:00:00:09", "x1"), ("ro", 2, "02:00:00:00:00:01", "lan1")):
        device = add_device(f"127.0.9.{number}", name=name, kind="v2c", secret={"community": "word"})
        Device.objects.filter(pk=device.pk).update(base_mac=mac)
        Interface.objects.create(device=device, if_index=25, name=port, label=port, role="uplink")
        made.append(device)
    return made


def look(device, *neighbours_, minutes=0, problem=""):
    return looks.keep(
        device.pk, Looked(NOW + timedelta(minutes=minutes), 5.0, 4, None if problem else list(neighbours_), problem)
    )


def test_what_is_told_again_changes_nothing_and_what_goes_stays_in_the_past(devices):
    switch, router = devices
    assert look(switch, told()) is True
    assert look(switch, told(), minutes=5) is False
    row = Neighbour.objects.get()
    assert (row.to_device, row.to_interface.name, row.interface.name) == (router, "lan1", "x1")
    assert row.reason == "the MAC address 02:00:00:00:00:01; port by its ifName"
    assert look(switch, minutes=10) is True
    assert queries.links_at(NOW + timedelta(minutes=9)) and not queries.links_at(NOW + timedelta(minutes=10))
    assert [entry.text for entry in Entry.objects.filter(kind="topology")] == [
        "sw x1 no longer sees 02:00:00:00:00:01, port lan1"
    ]
    look(switch, told(), minutes=15)
    assert Neighbour.objects.count() == 2, "it came back: another time of its own"


def test_a_look_that_failed_leaves_everything_as_it_was(devices):
    switch, _ = devices
    look(switch, told())
    assert look(switch, minutes=5, problem="no answer on UDP 161") is False
    assert Neighbour.objects.get().gone_at is None
    kept = NeighbourLook.objects.get()
    assert (kept.neighbours, kept.problem) == (1, "no answer on UDP 161")


def test_who_somebody_is_is_found_out_once_the_inventory_knows_it(devices):
    switch, router = devices
    look(switch, told(chassis="02:00:00:00:00:77", sys_name="new-box"))
    assert Neighbour.objects.get().to_device is None
    assert list(queries.strangers_at(NOW)) == [Neighbour.objects.get()]
    router.name = "new-box"
    router.save()
    assert neighbours.identify() == 1 and neighbours.identify() == 0
    assert Neighbour.objects.get().to_device == router


def test_those_who_were_strangers_are_known_once_their_own_device_was_asked(devices):
    switch, router = devices
    look(switch, told(chassis="02:00:00:00:00:77", sys_name="RO.county.example"))
    Neighbour.objects.update(to_device=None, to_interface=None)
    look(router, minutes=1)
    assert Neighbour.objects.get().to_device == router


def test_a_sign_that_two_devices_have_decides_nothing_though_only_few_are_looked_at(devices):
    switch, router = devices
    Device.objects.filter(pk=switch.pk).update(sys_name="twin")
    Device.objects.filter(pk=router.pk).update(sys_name="TWIN")
    other = add_device("127.0.9.3", name="third", kind="v2c", secret={"community": "word"})
    look(other, told(chassis="02:00:00:00:00:77", sys_name="twin"))
    row = Neighbour.objects.get()
    assert row.to_device is None and row.reason == "several devices have the name twin: ro, sw"


def test_many_at_once_are_one_piece_of_news(devices):
    switch, _ = devices
    look(switch)
    look(switch, *(told(chassis=f"02:00:00:00:01:{number:02x}") for number in range(40)), minutes=5)
    assert [entry.text for entry in Entry.objects.filter(kind="topology")] == ["sw sees 40 new neighbours"]


def test_a_device_that_was_deleted_meanwhile_is_nothing(devices):
    switch, _ = devices
    Device.objects.filter(pk=switch.pk).delete()
    assert look(switch, told()) is False
