"""Wireless, routes and who takes power, by the API, and the parts of the map that show a wireless network."""

from datetime import UTC, datetime, timedelta

import pytest
from django.test import Client as Browser

from lumtar.core.access import Role
from lumtar.core.topology.addressing import Addresses, OwnAddress
from lumtar.core.topology.bridging import Bridge, Forwarding
from lumtar.core.topology.macs import mac_number
from lumtar.core.topology.routing import Route
from lumtar.core.topology.wireless import AccessPoint, Client, Wireless
from lumtar.domain.inventory.models import Component, Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.readings import partitions
from lumtar.domain.readings.models import ComponentReading
from lumtar.domain.topology import looks
from lumtar.domain.topology.looks import Looked
from tests.server.calls import get, is_problem
from tests.server.test_access import person

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(microsecond=0)
HALL, DESK, PHONE = "02:01:00:00:00:01", "02:01:00:00:00:02", "02:02:00:00:00:09"


@pytest.fixture
def library(user):
    """A controller, a switch where it hears one of two access points, and a router; all at one site."""
    made = []
    for number, name in enumerate(("wlc", "sw", "ro"), 1):
        device = add_device(f"127.0.9.{number}", name=name, site="Hexwater", kind="v2c", secret={"community": "word"})
        for index in (1, 2):
            Interface.objects.create(device=device, if_index=index, name=f"g{index}", label=f"{name} g{index}")
        made.append(device)
    controller, switch, router = made
    table = Forwarding.of([(mac_number(HALL), 1, 40)])
    looks.keep(switch.pk, Looked(NOW - timedelta(minutes=20), 3.0, 9, [], "", Bridge(forwarding=table)))
    points = [AccessPoint("1", "hall", HALL, "10.0.40.1", "A4", True), AccessPoint("2", "desk", DESK, is_up=False)]
    for minutes, where in ((15, "2"), (5, "1")):
        here = [Client(PHONE, where, "Public", "10.255.0.9", -67)]
        looks.keep(controller.pk, Looked(NOW - timedelta(minutes=minutes), 3.0, 9, wireless=Wireless(points, here)))
    told = [Route("10.1.0.0/16", "", 1, "connected", 0), Route("0.0.0.0/0", "203.0.113.1", 2, "BGP", 5)]
    addresses = Addresses((OwnAddress(1, "10.1.0.1", 16), OwnAddress(1, "10.255.0.1", 16)))
    looks.keep(router.pk, Looked(NOW - timedelta(minutes=9), 3.0, 9, addresses=addresses, routes=told))
    return made


def test_access_points_are_listed_with_their_ports_and_clients(client, library):
    told = get(client, "access-points")
    desk, hall = told["rows"]
    assert (hall["name"], hall["is_up"], hall["clients"], hall["controller"]) == ("hall", True, 1, "wlc")
    assert (hall["plugged_in"]["device"], hall["plugged_in"]["label"]) == ("sw", "sw g1")
    assert desk["plugged_in"] is None and desk["is_up"] is False
    assert told["networks"] == [{"name": "Public", "clients": 1}]
    port = Interface.objects.get(device=library[1], if_index=1).pk
    for question, names in (
        (f"interface={port}", ["hall"]),
        ("network=Public", ["hall"]),
        ("words=des", ["desk"]),
        (f"device={library[1].pk}", []),
        ("site=Hexwater", ["hall"]),
        ("network=Nobody", []),
    ):
        assert [row["name"] for row in get(client, f"access-points?{question}")["rows"]] == names, question
    before = (NOW - timedelta(minutes=10)).isoformat().replace("+00:00", "Z")
    assert [row["clients"] for row in get(client, f"access-points?at={before}")["rows"]] == [1, 0]


def test_a_client_is_found_with_where_it_was(client, library):
    told = get(client, "wireless-clients?words=hall")
    assert told["total"] == 1 and told["rows"][0]["signal_dbm"] == -67
    assert get(client, "wireless-clients?network=Staff")["total"] == 0
    for words in (PHONE, "10.255.0.9"):
        (found,) = get(client, f"stations/{words}")
        assert [(stay["access_point"], bool(stay["gone_at"])) for stay in found["wireless"]] == [
            ("hall", False),
            ("desk", True),
        ]
        assert found["here"] is None
    way = get(client, f"map/way?start={PHONE}&goal=ro")
    assert way["start"]["label"] == "sw g1"
    assert way["notes"][0] == f"{PHONE} is in Public at access point hall, at sw sw g1"


def test_the_map_of_a_site_shows_access_points_and_a_wireless_network_alone(client, library):
    switch = library[1]
    told = get(client, "map?site=Hexwater")
    (card,) = [node for node in told["nodes"] if node["kind"] == "access points"]
    assert (card["key"], card["name"], card["devices"], card["networks"]) == (
        f"points-{switch.pk}",
        "hall",
        1,
        {"Public": 1},
    )
    assert HALL in card["members"]
    (link,) = [link for link in told["links"] if link["b"]["node"] == card["key"]]
    assert (link["a"]["device"], link["b"]["device"], link["evidence"]) == ("sw", "hall", "forwarding tables")
    assert "wireless-Public" in [part["name"] for part in get(client, "map/parts")]
    whole = {node["key"]: (node["x"], node["y"]) for node in get(client, "map?devices=true")["nodes"]}
    assert not any(key.startswith("points") for key in whole)
    alone = get(client, "map?devices=true&part=wireless-Public")
    assert {node["name"] for node in alone["nodes"]} == {"wlc", "sw", "hall"}
    assert all(whole[node["key"]] == (node["x"], node["y"]) for node in alone["nodes"] if node["key"] in whole)
    assert get(client, "map?devices=true&part=wireless-Nobody")["nodes"] == []
    is_problem(client.get(f"/api/v1/map/impact?node=points-{switch.pk}"), 422, "clients")
    spot = {"map": f"site-{switch.site_id}", "spots": [{"node": card["key"], "x": 5.0, "y": 900.0}]}
    assert client.put("/api/v1/map/own", spot, content_type="application/json").status_code == 200
    moved = next(node for node in get(client, "map?site=Hexwater")["nodes"] if node["key"] == card["key"])
    assert (moved["x"], moved["y"]) == (5.0, 900.0)


def test_routes_are_listed_and_an_address_looked_up(client, library):
    router = library[2]
    told = get(client, f"devices/{router.pk}/routes")
    assert told["total"] == 2
    assert [(row["network"], row["next_hop"], row["label"], row["protocol"]) for row in told["rows"]] == [
        ("0.0.0.0/0", "203.0.113.1", "ro g2", "BGP"),
        ("10.1.0.0/16", "", "ro g1", "connected"),
    ]
    for to, network in (("10.1.2.3", "10.1.0.0/16"), ("198.51.100.1", "0.0.0.0/0")):
        assert [row["network"] for row in get(client, f"devices/{router.pk}/routes?to={to}")["rows"]] == [network]
    assert get(client, f"devices/{router.pk}/routes?to=2001:db8::1")["rows"] == []
    is_problem(client.get(f"/api/v1/devices/{router.pk}/routes?to=nowhere"), 422, "not an address")
    then = (NOW - timedelta(minutes=10)).isoformat().replace("+00:00", "Z")
    assert get(client, f"devices/{router.pk}/routes?at={then}")["total"] == 0


def test_who_takes_power(client, library):
    switch = library[1]
    partitions.ensure((NOW - timedelta(days=1)).date(), (NOW + timedelta(days=1)).date())
    for index, state in ((1, 3), (2, 2)):
        part = Component.objects.create(device=switch, kind="poe port", index=f"1.{index}", name=f"PoE port {index}")
        # Not from when the module was read: that may be half an hour ago on a slow machine.
        ComponentReading.objects.create(component=part, at=datetime.now(UTC) - timedelta(minutes=4), value=state)
    (row,) = get(client, "powered")
    assert (row["device"], row["label"], row["access_point"], list(row["macs"])) == ("sw", "sw g1", "hall", [HALL])
    assert get(client, "powered?site=Elsewhere") == [] and len(get(client, f"powered?device={switch.pk}&words=g1")) == 1
    long_ago = (NOW - timedelta(hours=1)).isoformat().replace("+00:00", "Z")
    assert get(client, f"powered?at={long_ago}") == []


def test_who_is_limited_to_another_site_sees_nothing_of_it(library):
    add_device("127.0.9.9", name="other", site="Elsewhere", kind="v2c", secret={"community": "word"})
    browser = Browser(**person("berta", Role.VIEWER, sites=["Elsewhere"]))
    assert get(browser, "access-points") == {"rows": [], "networks": []}
    assert get(browser, "wireless-clients")["total"] == 0 and get(browser, "powered") == []
    assert browser.get(f"/api/v1/devices/{library[2].pk}/routes").status_code == 404


def test_a_profile_names_the_tables_of_a_wireless_network(client):
    wanted = {"name": "Controllers", "wireless_tables": {"client_network": "1.3.6.1.4.1.32473.4.2.1.3"}}
    made = client.post("/api/v1/profiles", wanted, content_type="application/json")
    assert made.status_code == 201 and made.json()["wireless_tables"]["client_network"] == "1.3.6.1.4.1.32473.4.2.1.3"
    wrong = {"name": "Others", "wireless_tables": {"client_signal": "1.3.6.1"}}
    is_problem(client.post("/api/v1/profiles", wrong, content_type="application/json"), 422, "column of the network")
