"""End stations, layers 2 and 3, the expected topology, and changes of ports, by the API."""

import asyncio
import threading
import time
from datetime import UTC, datetime, timedelta

import pytest
from django.test import Client

from bench.ports import free_port
from lab.agent import Agent
from lab.device import Device as StandIn
from lumtar.core.access import Role
from lumtar.core.topology.addressing import Addresses, Binding, OwnAddress
from lumtar.core.topology.bridging import Bridge, Forwarding, PortVlans, SpanningTree
from lumtar.core.topology.bridging import Role as TreeRole
from lumtar.core.topology.macs import mac_number
from lumtar.domain.audit.models import AuditChange
from lumtar.domain.inventory import credentials
from lumtar.domain.inventory.models import Component, Device, Interface, PollRequest, Profile, Site
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.topology import looks
from lumtar.domain.topology.looks import Looked
from lumtar.server.api import actions
from tests.lab.boxes import box, scenario
from tests.server.calls import get, is_problem
from tests.server.test_access import person

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(microsecond=0)
DESK, PRINTER = "02:01:00:00:00:01", "02:01:00:00:00:02"


@pytest.fixture
def office(user):
    """A switch with two stations, and the router that knows their addresses."""
    made = []
    for number, name in enumerate(("sw", "ro"), 1):
        device = add_device(
            f"127.0.9.{number}", name=name, site=f"Site {number}", kind="v2c", secret={"community": "word"}
        )
        for index in (1, 2, 3):
            Interface.objects.create(device=device, if_index=index, name=f"g{index}", label=f"g{index} label")
        made.append(device)
    switch, router = made
    table = Forwarding.of([(mac_number(DESK), 1, 10), (mac_number(PRINTER), 2, 20)])
    tree = SpanningTree("4096 02:00:00:00:00:09", 3, 20000, 4, {3: TreeRole.ROOT})
    told = Bridge(
        "02:00:00:00:00:01",
        table,
        tree,
        {10: "Staff", 20: "Things"},
        {3: PortVlans(1, (10, 20), ()), 1: PortVlans(10, (), (10,))},
    )
    addresses = Addresses(
        (OwnAddress(1, "192.0.2.1", 24),), (Binding(1, "192.0.2.9", DESK), Binding(1, "2001:db8::9", DESK))
    )
    looks.keep(router.pk, Looked(NOW - timedelta(minutes=9), 3.0, 9, [], "", None, addresses))
    looks.keep(switch.pk, Looked(NOW - timedelta(minutes=8), 3.0, 9, [], "", told, Addresses((), (), {3: 9000})))
    return made


def test_stations_with_their_addresses_and_vlans(client, office):
    found = get(client, "stations")
    assert found["total"] == 2
    desk, printer = found["rows"]
    assert (desk["mac"], desk["addresses"], desk["device"], desk["label"], desk["vlan"], desk["vlan_name"]) == (
        DESK, ["192.0.2.9", "2001:db8::9"], "sw", "g1 label", 10, "Staff",
    )  # fmt: skip
    assert printer["addresses"] == []
    assert get(client, "stations", at=(NOW - timedelta(minutes=20)).isoformat())["rows"] == []


@pytest.mark.parametrize(
    ("words", "macs"),
    [
        ("192.0.2", [DESK]), ("2001:db8::9", [DESK]), ("00-00-02", [PRINTER]), ("0201.0000.0001", [DESK]), ("g2", [PRINTER]),
        ("sw", [DESK, PRINTER]), ("sw g1", [DESK]), ("nothing", []),
    ],
)  # fmt: skip
def test_they_are_found_by_any_part_of_what_they_are_called(client, office, words, macs):
    assert [row["mac"] for row in get(client, "stations", words=words)["rows"]] == macs


def test_of_a_port_of_a_device_and_of_a_site(client, office):
    switch, _ = office
    port = Interface.objects.get(device=switch, if_index=2)
    assert [row["mac"] for row in get(client, "stations", interface=port.pk)["rows"]] == [PRINTER]
    assert get(client, "stations", device=switch.pk)["total"] == 2
    assert get(client, "stations", site="Site 1")["total"] == 2 and get(client, "stations", site="Site 2")["total"] == 0


def test_where_something_is_and_what_nobody_knows(client, office):
    for what in (DESK, "192.0.2.9", "2001:db8::9"):
        (found,) = get(client, f"stations/{what}")
        assert (found["mac"], found["here"]["label"], found["shared"], found["before"]) == (DESK, "g1 label", 0, [])
    assert get(client, "stations/192.0.2.200") == [] and get(client, "stations/what") == []


def test_what_a_device_and_its_ports_are_on_layers_2_and_3(client, office):
    switch, router = office
    layers = get(client, f"devices/{switch.pk}/layers")
    told = layers["bridge"]
    assert (told["stations"], told["root"], told["root_device"], told["root_label"]) == (
        2, "4096 02:00:00:00:00:09", "", "g3 label",
    )  # fmt: skip
    assert told["vlans"] == {"10": "Staff", "20": "Things"} and layers["own_addresses"] == []
    other = get(client, f"devices/{router.pk}/layers")
    assert other["bridge"] is None and other["own_addresses"][0]["address"] == "192.0.2.1"
    uplink = Interface.objects.get(device=switch, if_index=3)
    layer = get(client, f"interfaces/{uplink.pk}/layer2")
    assert (layer["tagged"], layer["vlans"], layer["stp_role"], layer["mtu"]) == (
        [10, 20], {"10": "Staff", "20": "Things"}, "root", 9000,
    )  # fmt: skip
    plain = Interface.objects.get(device=router, if_index=1)
    assert client.get(f"/api/v1/interfaces/{plain.pk}/layer2").json() is None


def test_who_is_limited_to_a_site_sees_its_stations_alone(office):
    limited = Client(**person("cleo", Role.VIEWER, sites=["Site 2"]))
    assert get(limited, "stations")["rows"] == [] and get(limited, f"stations/{DESK}")[0]["here"] is None
    inside = Client(**person("bert", Role.VIEWER, sites=["Site 1"]))
    assert get(inside, "stations")["total"] == 2


def test_the_way_from_an_address_over_its_gateway(client, office):
    switch, router = office
    client.post(
        "/api/v1/links",
        {"a": {"device": switch.pk, "interface": Interface.objects.get(device=switch, if_index=3).pk}, "b": {"device": router.pk}},
        content_type="application/json",
    )  # fmt: skip
    found = get(client, "map/way", start="192.0.2.9", goal=PRINTER)
    assert (found["start"]["label"], found["start"]["address"], found["goal"]["label"]) == (
        "g1 label",
        "192.0.2.9",
        "g2 label",
    )
    assert found["ways"] == [[]] or [hop["b"]["device"] for hop in found["ways"][0]] == ["ro", "sw"]
    assert f"{DESK} is at sw g1 label" in found["notes"]
    out = get(client, "map/way", start="192.0.2.9", goal="ro")
    assert [hop["b"]["device"] for hop in out["ways"][0]] == ["ro"]
    assert get(client, "map/way", start="sw g1", goal="192.0.2.1")["goal"]["name"] == "ro"


def test_the_map_shows_one_vlan_alone(client, office):
    names = [each["name"] for each in get(client, "map/parts")]
    assert names == ["vlan-10", "vlan-20"]
    shown = get(client, "map", devices=True, part="vlan-10")
    assert [node["name"] for node in shown["nodes"]] == ["sw"]
    is_problem(client.get("/api/v1/map?devices=true&part=vlans"), 422, "There is no part vlans")


def test_the_expected_topology_is_frozen_and_thawed_and_that_is_in_the_audit_trail(client, office):
    assert get(client, "links/expected") == {"frozen": 0, "frozen_at": None, "frozen_by": "", "differences": []}
    assert client.post("/api/v1/links/expected", content_type="application/json").json() == {"ports": 0}
    port = Interface.objects.first()
    assert client.post(f"/api/v1/interfaces/{port.pk}/expected", content_type="application/json").status_code == 204
    assert get(client, "links/expected")["frozen"] == 1
    assert AuditChange.objects.filter(table="topology_expectedlink", kind="INSERT").count() == 1
    assert client.delete("/api/v1/links/expected", content_type="application/json").status_code == 204
    assert get(client, "links/expected")["frozen"] == 0
    viewer = Client(**person("cleo", Role.VIEWER))
    assert viewer.post("/api/v1/links/expected", content_type="application/json").status_code == 403


@pytest.mark.django_db(transaction=True)
class TestChanging:
    """Changing ports: through the errand that the web server does itself where no collector runs."""

    @pytest.fixture
    def device(self, user, loopback):
        made = add_device(next(loopback), name="hex-acc-1", kind="v2c", secret={"community": "read-word"})
        port = Interface.objects.create(device=made, if_index=1, name="g1", label="Desk 1")
        Component.objects.create(device=made, kind="poe port", index="1.1", name="PoE port 1")
        return made, port

    @pytest.fixture
    def agent(self, device):
        """An agent in a thread of its own: the server waits for it."""
        made, _ = device
        stand_in = box(address=made.address)
        running = {}
        ready = threading.Event()

        async def serve():
            unit = StandIn(scenario([stand_in]), stand_in, time.time(), time.time, ())
            port = free_port()
            running["agent"] = Agent(unit, made.address, port, "read-word", None, "write-word")
            running["loop"], running["stop"], running["port"] = asyncio.get_running_loop(), asyncio.Event(), port
            ready.set()
            await running["stop"].wait()
            running["agent"].close()

        thread = threading.Thread(target=lambda: asyncio.run(serve()))
        thread.start()
        ready.wait(5)
        Device.objects.filter(pk=made.pk).update(port=running["port"])
        yield running["agent"].device
        running["loop"].call_soon_threadsafe(running["stop"].set)
        thread.join(5)

    def act(self, client, port, **body):
        return client.post(
            f"/api/v1/interfaces/{port.pk}/actions",
            {"reason": "cabling of the room", **body},
            content_type="application/json",
        )

    def allow(self, client, is_allowed=True):
        answer = client.put("/api/v1/writing", {"is_allowed": is_allowed}, content_type="application/json")
        assert answer.status_code == 200
        return answer.json()

    def test_nothing_is_changed_until_an_administrator_allows_it(self, client, device, agent):
        _, port = device
        credentials.create("Write", "v2c", {"community": "write-word"}, is_for_writing=True)
        assert "read-only" in get(client, f"interfaces/{port.pk}/actions")["refused"]
        is_problem(self.act(client, port, action="port_down"), 409, "Lumtar is read-only")
        assert agent.is_up(1, True)
        engineer = Client(**person("eva", Role.ENGINEER))
        assert engineer.put("/api/v1/writing", {"is_allowed": True}, content_type="application/json").status_code == 403

    def test_a_port_is_switched_off_and_read_back(self, client, device, agent):
        made, port = device
        credentials.create("Write", "v2c", {"community": "write-word"}, is_for_writing=True)
        self.allow(client)
        assert get(client, f"interfaces/{port.pk}/actions")["refused"] == ""
        done = self.act(client, port, action="port_down").json()
        assert done["is_done"] and (done["before"], done["after"]) == ("up", "down")
        assert not agent.is_up(1, True)
        entry = Entry.objects.filter(kind="user").latest("pk")
        assert entry.text == "hex-acc-1 Desk 1: switched off (cabling of the room)" and entry.interface == port
        assert PollRequest.objects.filter(device=made).exists()
        assert self.act(client, port, action="port_up").json()["after"] == "up"
        assert self.act(client, port, action="describe", text="Desk by the door").json()["after"] == "Desk by the door"
        assert self.act(client, port, action="poe_off").json()["after"] == "off"
        self.allow(client, False)
        is_problem(self.act(client, port, action="port_down"), 409, "read-only")

    def test_what_became_of_it_is_written_down_though_the_collector_ended(self, client, device, monkeypatch):
        async def ended(kind, message):
            return
            yield

        _, port = device
        credentials.create("Write", "v2c", {"community": "write-word"}, is_for_writing=True)
        self.allow(client)
        monkeypatch.setattr(actions, "done_by_a_collector", ended)
        done = self.act(client, port, action="port_down").json()
        assert not done["is_done"] and "look at the device before you try again" in done["words"]
        text = Entry.objects.filter(kind="user").latest("pk").text
        assert "the collector ended" in text and "(cabling of the room)" in text

    def test_who_is_limited_to_a_part_changes_nothing(self, client, device):
        made, port = device
        Device.objects.filter(pk=made.pk).update(site=Site.objects.create(name="Hexwater"))
        self.allow(client)
        limited = Client(**person("ina", Role.ENGINEER, sites=["Hexwater"]))
        assert self.act(limited, port, action="port_down").status_code == 403

    def test_a_device_is_restarted_where_its_profile_says_how(self, client, device, agent):
        made, _ = device
        credentials.create("Write", "v2c", {"community": "write-word"}, is_for_writing=True)
        self.allow(client)
        path, why = f"/api/v1/devices/{made.pk}/restart", {"reason": "new software"}
        is_problem(client.post(path, why, content_type="application/json"), 422, "does not say how")
        profile = Profile.objects.create(name="Ours", restart={"oid": "1.3.6.1.4.1.32473.3.1.0", "value": 1})
        Device.objects.filter(pk=made.pk).update(profile=profile)
        assert get(client, f"devices/{made.pk}/restart") == {"is_there": True, "refused": ""}
        before = agent.uptime(time.time())
        done = client.post(path, why, content_type="application/json").json()
        assert done["is_done"] and done["words"] == "hex-acc-1 was told to restart."
        assert agent.uptime(time.time()) < before
        assert Entry.objects.filter(text="hex-acc-1: restart (new software)").exists()

    def test_what_cannot_be_done_has_its_reason(self, client, device, agent):
        _, port = device
        self.allow(client)
        is_problem(self.act(client, port, action="port_down"), 409, "There is no credential for writing")
        credentials.create("Write", "v2c", {"community": "read-word"}, is_for_writing=True)
        said = self.act(client, port, action="port_down").json()
        assert not said["is_done"] and "does not let this credential change it" in said["words"]
        is_problem(self.act(client, port, action="melt"), 422, "There is no action melt")
        is_problem(self.act(client, port, action="port_down", reason=" "), 422, "why")
        is_problem(self.act(client, port, action="describe", text="x" * 65), 422, "at most 64")
        Component.objects.all().delete()
        is_problem(self.act(client, port, action="poe_off"), 409, "has no pethPsePortAdminEnable")
        viewer = Client(**person("olga", Role.OPERATOR))
        assert self.act(viewer, port, action="port_down").status_code == 403

    def test_a_device_that_keeps_still_is_told_of(self, client, device):
        _, port = device
        credentials.create("Write", "v2c", {"community": "write-word"}, is_for_writing=True)
        self.allow(client)
        said = self.act(client, port, action="port_down").json()
        assert not said["is_done"] and "hex-acc-1:" in said["words"]

    def test_a_credential_for_writing_is_never_tried_for_reading(self, client, device):
        kept = credentials.create("Write", "v2c", {"community": "write-word"}, is_for_writing=True)
        assert kept not in credentials.in_order() and credentials.in_order(for_writing=True) == [kept]
        read = credentials.in_order()[0]
        with pytest.raises(ValueError, match="Devices are read with it"):
            credentials.change(
                read.pk, read.edition, name=read.name, secret={}, sites=[], kind=read.kind, is_for_writing=True
            )
