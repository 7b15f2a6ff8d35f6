"""Links and neighbours by the API."""

from datetime import UTC, datetime, timedelta
from xml.etree import ElementTree as Tree

import pytest
from django.test import Client

from lumtar.core.access import Role
from lumtar.core.topology import Identifier
from lumtar.core.topology import Neighbour as Told
from lumtar.core.topology.identifiers import IdKind
from lumtar.domain.inventory import groups
from lumtar.domain.inventory.groups import GroupSpec
from lumtar.domain.inventory.models import Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.topology import looks
from lumtar.domain.topology.looks import Looked
from tests.server.calls import get, is_problem
from tests.server.test_access import person

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(microsecond=0)


def told(local, name, port):
    return Told(1, local, Identifier(IdKind.LOCAL, name), Identifier(IdKind.NAME, port), "", name, "", ("10.9.9.9",))


@pytest.fixture
def pair(user):
    made = []
    for number, (name, port) in enumerate((("sw", "x1"), ("ro", "lan1")), 1):
        device = add_device(
            f"127.0.9.{number}", name=name, site=f"Site {number}", kind="v2c", secret={"community": "word"}
        )
        Interface.objects.create(device=device, if_index=1, name=port, label=f"{port} label")
        made.append(device)
    switch, router = made
    looks.keep(switch.pk, Looked(NOW - timedelta(minutes=9), 4.5, 5, [told("x1", "ro", "lan1")]))
    looks.keep(router.pk, Looked(NOW - timedelta(minutes=8), 4.5, 5, [told("lan1", "sw", "x1")]))
    return made


def test_a_link_has_both_ends_and_how_it_is_known(client, pair):
    answer = get(client, "links")
    (link,) = answer["rows"]
    assert (link["evidence"], link["contradiction"], answer["strangers"]) == ("both ends", "", 0)
    ends = [(end["device"], end["site"], end["label"]) for end in (link["a"], link["b"])]
    assert ends == [("sw", "Site 1", "x1 label"), ("ro", "Site 2", "lan1 label")]
    earlier = (NOW - timedelta(minutes=8, seconds=30)).isoformat()
    assert [each["evidence"] for each in get(client, "links", at=earlier)["rows"]] == ["one end"]
    assert get(client, "links", at=(NOW - timedelta(minutes=20)).isoformat())["rows"] == []
    assert is_problem(client.get("/api/v1/links?at=2099-01-01T00:00:00Z"), 422, "future")


def test_the_neighbours_of_a_device_of_a_port_and_those_that_nobody_knows(client, pair):
    switch, _ = pair
    looks.keep(switch.pk, Looked(NOW, 9.0, 6, [told("x1", "ro", "lan1"), told("x2", "printer", "eth0")], ""))
    found = get(client, f"devices/{switch.pk}/neighbours")
    assert (found["requests"], found["took_ms"], found["problem"]) == (6, 9.0, "")
    known, stranger = found["rows"]
    assert (known["to_device"], known["to_label"], known["reason"]) == (
        "ro", "lan1 label", "the name ro; port by its ifName",
    )  # fmt: skip
    assert (stranger["to_device_id"], stranger["sys_name"]) == (None, "printer")
    port = Interface.objects.get(device=switch)
    assert [each["local_port"] for each in get(client, f"interfaces/{port.pk}/neighbours")] == ["x1", "x2"]
    (unknown,) = get(client, "neighbours/strangers")
    assert (unknown["device"], unknown["sys_name"], unknown["addresses"]) == ("sw", "printer", ["10.9.9.9"])
    assert client.get("/api/v1/devices/987654/neighbours").status_code == 404


def test_links_of_a_site_and_of_a_group_have_an_end_there(client, pair):
    def number(**place):
        return len(get(client, "links", **place)["rows"])

    assert (number(site="Site 1"), number(site="Site 2"), number(site="No site")) == (1, 1, 0)
    inside = groups.save(GroupSpec("Uplinks", 'name is "x1"'), "anna")
    outside = groups.save(GroupSpec("Others", 'name is "nothing"'), "anna")
    assert (number(group=inside.pk), number(group=outside.pk)) == (1, 0)
    assert client.get("/api/v1/links?group=987654").status_code == 404


def test_links_as_graphml(client, pair):
    answer = client.get("/api/v1/links.graphml")
    assert answer["Content-Type"] == "application/graphml+xml"
    graph = Tree.fromstring(answer.content).find("{*}graph")
    names = [node.find("{*}data[@key='name']").text for node in graph.findall("{*}node")]
    (edge,) = graph.findall("{*}edge")
    assert names == ["sw", "ro"]
    assert {each.get("key"): each.text for each in edge}["from_port"] == "x1 label"
    assert {edge.get("source"), edge.get("target")} == {node.get("id") for node in graph.findall("{*}node")}


@pytest.mark.django_db(transaction=True)
def test_who_is_limited_to_a_site_sees_no_link_that_leads_out_of_it(pair):
    headers, client = person("limited", Role.VIEWER, ["Site 1"]), Client()
    assert client.get("/api/v1/links", **headers).json()["rows"] == []
    (row,) = client.get(f"/api/v1/devices/{pair[0].pk}/neighbours", **headers).json()["rows"]
    assert (row["to_device_id"], row["to_device"], row["sys_name"]) == (None, "", "ro")
    assert client.get(f"/api/v1/devices/{pair[1].pk}/neighbours", **headers).status_code == 404
