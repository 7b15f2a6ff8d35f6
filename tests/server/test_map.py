"""The map by the API, and links that people enter."""

import base64
import csv
import io
from datetime import UTC, datetime, timedelta

import pytest
from django.test import Client

from lumtar.core.access import Role
from lumtar.domain.audit.models import AuditEntry
from lumtar.domain.inventory import groups
from lumtar.domain.inventory.groups import GroupSpec
from lumtar.domain.inventory.models import Component, Device, Group, Interface
from lumtar.domain.inventory.services import add_device, retire
from lumtar.domain.readings import partitions
from lumtar.domain.readings.models import ComponentReading, Newest
from lumtar.domain.topology.models import ManualLink, MapPosition
from tests.server.calls import get, is_problem
from tests.server.test_access import person
from tests.server.test_links import NOW, pair  # noqa: F401

pytestmark = pytest.mark.django_db


def post(client, path, body, **more):
    return client.post(f"/api/v1/{path}", body, content_type="application/json", **more)


def put(client, path, body, **more):
    return client.put(f"/api/v1/{path}", body, content_type="application/json", **more)


def spots(answer):
    return {node["key"]: (node["x"], node["y"]) for node in answer["nodes"]}


@pytest.fixture
def office(user):
    """Three devices at a site and one at another, four ports each."""
    made = []
    for number, site in enumerate(("Office", "Office", "Office", "Depot"), 1):
        device = add_device(
            f"127.0.8.{number}", name=f"dev-{number}", site=site, kind="v2c", secret={"community": "word"}
        )
        Interface.objects.bulk_create(
            Interface(device=device, if_index=n, name=f"g{n}", label="Backbone" if n == 4 else f"Port {n}")
            for n in range(1, 5)
        )
        made.append(device)
    return made


def port(device, number):
    return Interface.objects.get(device=device, if_index=number).pk


def end(device, number=None):
    return {"device": device.pk, "interface": port(device, number) if number else None}


def entered(client, one, other, **more):
    answer = post(client, "links", {"a": one, "b": other, **more})
    assert answer.status_code == 201, answer.content
    return answer.json()["id"]


class TestTheMap:
    def test_sites_and_what_joins_them(self, client, pair):  # noqa: F811
        found = get(client, "map")
        assert found["map"] == "sites"
        assert [(node["kind"], node["name"], node["devices"]) for node in found["nodes"]] == [
            ("site", "Site 1", 1), ("site", "Site 2", 1),
        ]  # fmt: skip
        (link,) = found["links"]
        assert [(link[side]["device"], link[side]["name"]) for side in ("a", "b")] == [("sw", "x1"), ("ro", "lan1")]
        assert (link["evidence"], link["state"], link["entered"]) == ("both ends", "unknown", None)

    def test_inside_a_site_others_stand_only_where_links_lead(self, client, office):
        entered(client, end(office[0], 1), end(office[1], 1))
        entered(client, end(office[0], 2), end(office[3], 1))
        found = get(client, "map", site="Office")
        assert [(node["name"], node["kind"], node["is_outside"]) for node in found["nodes"]] == [
            ("dev-1", "device", False), ("dev-2", "device", False), ("dev-3", "device", False), ("Depot", "site", True),
        ]  # fmt: skip
        assert len(found["links"]) == 2 and found["map"].startswith("site-")
        assert [node["name"] for node in get(client, "map", devices=True)["nodes"]] == [f"dev-{n}" for n in range(1, 5)]
        is_problem(client.get("/api/v1/map?site=Nowhere"), 404, "no site called Nowhere")

    def test_a_transport_joins_the_ports_of_its_group(self, client, office):
        groups.save(GroupSpec("Ring", 'label is "Backbone"', is_transport=True), "anna")
        found = get(client, "map")
        ring = next(node for node in found["nodes"] if node["kind"] == "transport")
        assert (ring["name"], ring["devices"], len(found["links"])) == ("Ring", 4, 4)
        assert {link["b"]["node"] for link in found["links"]} == {ring["key"]}
        assert len(get(client, "map", site="Depot")["links"]) == 1

    def test_the_past_has_the_links_of_then(self, client, pair):  # noqa: F811
        then = NOW - timedelta(minutes=8, seconds=30)
        assert [link["evidence"] for link in get(client, "map", at=then.isoformat())["links"]] == ["one end"]
        earlier = (then - timedelta(minutes=20)).isoformat()
        assert get(client, "map", at=earlier)["links"] == []
        is_problem(client.get("/api/v1/map?at=2099-01-01T00:00:00Z"), 422, "future")

    def test_a_device_that_was_retired_is_not_on_it(self, client, office):
        entered(client, end(office[0], 1), end(office[3], 1))
        retire(office[3].pk, "anna")
        assert [node["name"] for node in get(client, "map")["nodes"]] == ["Office"]


class TestImpact:
    def test_what_would_be_cut_off_and_what_would_have_one_way_left(self, client, office):
        one, two, three, depot = office
        for number, (a, b) in enumerate(((one, two), (two, three), (three, one), (three, depot)), 1):
            entered(client, end(a, number), end(b, number))

        def cost(**question):
            found = get(client, "map/impact", **question)
            return [[each["name"] for each in found[name]] for name in ("cut_off", "one_way_left")]

        assert cost(node=f"device-{three.pk}") == [["dev-4"], ["dev-1", "dev-2"]]
        assert cost(interface=port(depot, 4)) == [["dev-4"], []]
        assert cost(interface=port(one, 1)) == [[], ["dev-1", "dev-2", "dev-3"]]
        assert cost(node=f"site-{one.site_id}") == [[], []], "the depot alone is left"
        (hit,) = get(client, "map/impact", node=f"device-{three.pk}")["cut_off"]
        assert hit == {"id": depot.pk, "name": "dev-4", "site": "Depot", "ports_up": 0}

    def test_over_a_transport(self, client, office):
        ring = groups.save(GroupSpec("Ring", 'label is "Backbone"', is_transport=True), "anna")
        assert len(get(client, "map/impact", node=f"transport-{ring.pk}")["cut_off"]) == 3, "all but one"

    def test_what_is_nothing_on_the_map_is_refused(self, client):
        is_problem(client.get("/api/v1/map/impact?node=cloud-1"), 422, "Name a card")
        is_problem(client.get("/api/v1/map/impact"), 422, "Name a card")


class TestTheWay:
    @pytest.fixture
    def square(self, client, office):
        """dev-1 to dev-4 over dev-2, and over dev-3."""
        one, two, three, depot = office
        for (a, m), (b, n) in (
            ((one, 1), (two, 1)),
            ((two, 2), (depot, 1)),
            ((one, 2), (three, 1)),
            ((three, 2), (depot, 2)),
        ):
            entered(client, end(a, m), end(b, n))
        ManualLink.objects.update(since=datetime.now(UTC) - timedelta(hours=1))
        return office

    def way(self, client, start, goal, **more):
        return get(client, "map/way", start=start, goal=goal, **more)

    def test_hop_by_hop_and_another_one(self, client, square):
        found = self.way(client, "dev-1", "127.0.8.4")
        assert (found["start"]["name"], found["goal"]["name"], found["is_broken"], found["yesterday"]) == (
            "dev-1", "dev-4", False, [],
        )  # fmt: skip
        first, second = found["ways"]
        assert [(hop["a"]["device"], hop["a"]["name"], hop["b"]["device"], hop["b"]["name"]) for hop in first] == [
            ("dev-1", "g1", "dev-2", "g1"), ("dev-2", "g2", "dev-4", "g1"),
        ]  # fmt: skip
        assert [hop["b"]["device"] for hop in second] == ["dev-3", "dev-4"]
        back = self.way(client, "DEV-4", "dev-1")["ways"][0]
        assert back[0]["a"]["device"] == "dev-4" and back[-1]["b"]["device"] == "dev-1"

    def test_over_what_is_down_it_is_broken(self, client, square):
        now = datetime.now(UTC)
        for name, state in (("g1", 2), ("g2", 2)):
            interface = Interface.objects.get(device=square[0], name=name)
            Newest.objects.create(
                interface=interface, at=now, base_at=now, since=now, uptime=0, discontinuity=0, port_bps=0, counters=[0] * 12,
                flags=0, oper=state, admin=1, holds=0, moved=False, present=True, wide=True,
            )  # fmt: skip
        found = self.way(client, "dev-1", "dev-4")
        assert found["is_broken"] and len(found["ways"]) == 1
        assert found["ways"][0][0]["state"] == "down"

    def test_yesterday_it_was_another_one(self, client, square):
        one, _, _, depot = square
        direct = ManualLink.objects.create(
            a_device=one, b_device=depot, entered_by="anna", since=datetime.now(UTC) - timedelta(days=3),
            gone_at=datetime.now(UTC) - timedelta(hours=2),
        )  # fmt: skip
        Device.objects.update(added_at=direct.since)
        assert self.way(client, "dev-1", "dev-4")["yesterday"] == ["dev-1", "dev-4"]

    def test_over_a_transport_nothing_is_seen(self, client, office):
        groups.save(GroupSpec("Ring", 'label is "Backbone"', is_transport=True), "anna")
        found = self.way(client, "dev-1", "dev-4")
        assert found["unseen"] == ["Ring"] and [hop["b"]["device"] for hop in found["ways"][0]] == ["Ring", "dev-4"]

    def test_what_is_not_known_and_what_is_not_joined(self, client, office):
        is_problem(
            client.get("/api/v1/map/way?start=dev-1&goal=printer"), 422, "Nothing is known that is called printer"
        )
        is_problem(client.get("/api/v1/map/way?start=&goal=dev-1"), 422, "Name a device")
        assert self.way(client, "dev-1", "dev-2")["ways"] == []
        assert self.way(client, "dev-1", "dev-1")["ways"] == [[]]


class TestPlaces:
    def test_they_are_kept_and_what_is_new_moves_nothing(self, client, office):
        entered(client, end(office[0], 1), end(office[1], 1))
        entered(client, end(office[0], 2), end(office[2], 1))
        before = spots(get(client, "map", devices=True))
        entered(client, end(office[1], 2), end(office[3], 1))
        add_device("127.0.8.9", name="dev-9", site="Office", kind="v2c", secret={"community": "word"})
        after = spots(get(client, "map", devices=True))
        linked = [f"device-{device.pk}" for device in office[:3]]
        assert {key: after[key] for key in linked} == {key: before[key] for key in linked}
        assert len(set(after.values())) == 5

    def test_what_nothing_leads_to_gets_its_place_once_its_links_are_known(self, client, office):
        get(client, "map", devices=True)
        assert not MapPosition.objects.exists(), "rows for now"
        for number, other in enumerate(office[1:], 1):
            entered(client, end(office[0], number), end(other, 1))
        placed = spots(get(client, "map", devices=True))
        hub, *others = (placed[f"device-{device.pk}"] for device in office)
        assert MapPosition.objects.filter(map="devices").count() == 4
        assert all(y > hub[1] for _, y in others), "in layers, below what they hang on"

    def test_a_look_at_the_past_places_nothing_for_good(self, client, pair):  # noqa: F811
        get(client, "map", at=(NOW - timedelta(minutes=1)).isoformat())
        assert not MapPosition.objects.exists()
        get(client, "map")
        assert MapPosition.objects.count() == 2

    def test_a_person_has_an_arrangement_of_their_own(self, client, office):
        entered(client, end(office[0], 1), end(office[1], 1))
        before, key = spots(get(client, "map", devices=True)), f"device-{office[0].pk}"
        moved = {"map": "devices", "spots": [{"node": key, "x": 900, "y": -900}]}
        assert put(client, "map/own", moved).json() == {"nodes": 1}
        assert spots(get(client, "map", devices=True)) == {**before, key: (900, -900)}
        other = Client()
        headers = person("viewer", Role.VIEWER)
        assert spots(other.get("/api/v1/map?devices=true", **headers).json()) == before
        client.delete("/api/v1/map/own?map=devices")
        assert spots(get(client, "map", devices=True)) == before

    def test_an_engineer_arranges_it_for_everybody_and_that_is_in_the_audit_trail(self, client, office):
        key = f"device-{office[0].pk}"
        get(client, "map", devices=True)
        moved = {"map": "devices", "spots": [{"node": key, "x": 7, "y": 8}]}
        headers = person("viewer", Role.VIEWER)
        assert put(Client(), "map/shared", moved, **headers).status_code == 403
        assert put(client, "map/shared", moved).status_code == 200
        assert spots(Client().get("/api/v1/map?devices=true", **headers).json())[key] == (7, 8)
        assert AuditEntry.objects.filter(what__startswith="Move cards for everybody").exists()
        client.delete("/api/v1/map/shared?map=devices")
        assert spots(get(client, "map", devices=True))[key] != (7, 8)

    @pytest.mark.parametrize(
        "body",
        [
            {"map": "everything", "spots": [{"node": "device-1", "x": 0, "y": 0}]},
            {"map": "devices", "spots": [{"node": "cloud-1", "x": 0, "y": 0}]},
            {"map": "devices", "spots": []},
            {"map": "devices", "spots": [{"node": "device-1", "x": 1e9, "y": 0}]},
        ],
    )
    def test_what_is_no_place_is_refused(self, client, body):
        assert put(client, "map/own", body).status_code == 422
        assert not MapPosition.objects.exists()


class TestLinksByHand:
    def test_one_is_entered_shown_and_removed_and_the_past_keeps_it(self, client, office):
        number = entered(client, end(office[0], 1), end(office[3]), note="dark fibre")
        (row,) = get(client, "links")["rows"]
        assert (row["evidence"], row["entered"], row["b"]["interface_id"]) == ("by hand", number, None)
        then = datetime.now(UTC)
        assert client.delete(f"/api/v1/links/{number}").status_code == 204
        assert get(client, "links")["rows"] == []
        assert len(get(client, "links", at=then.isoformat())["rows"]) == 1
        assert client.delete(f"/api/v1/links/{number}").status_code == 404

    def test_it_adds_to_what_lldp_tells(self, client, pair):  # noqa: F811
        switch, router = pair
        entered(client, end(switch, 1), end(router, 1))
        (row,) = get(client, "links")["rows"]
        assert row["evidence"] == "both ends" and row["entered"]

    @pytest.mark.parametrize(
        ("one", "other", "words"),
        [
            ((0, 1), (0, 2), "the same device"),
            ((0, 1), (1, 1), "entered already"),
            ((0, 1), (2, 1), "has a link by hand already"),
        ],
    )
    def test_what_cannot_be_is_refused_with_the_reason(self, client, office, one, other, words):
        entered(client, end(office[1], 1), end(office[0], 1))
        body = {"a": end(office[one[0]], one[1]), "b": end(office[other[0]], other[1])}
        is_problem(post(client, "links", body), 422, words)
        assert ManualLink.objects.count() == 1

    def test_a_port_of_another_device_and_one_that_is_gone_are_refused(self, client, office):
        wrong = {"device": office[0].pk, "interface": port(office[1], 1)}
        is_problem(post(client, "links", {"a": wrong, "b": end(office[2], 1)}), 422, "no such port")
        is_problem(
            post(client, "links", {"a": {"device": 987654}, "b": end(office[2], 1)}), 422, "not in the inventory"
        )

    def test_a_viewer_may_not(self, office):
        answer = post(
            Client(), "links", {"a": end(office[0], 1), "b": end(office[1], 1)}, **person("viewer", Role.VIEWER)
        )
        assert answer.status_code == 403 and not ManualLink.objects.exists()


class TestCsv:
    HEAD = "from_device,from_port,to_device,to_port,note\n"

    def read(self, client, lines, *, keep=False):
        return post(client, "links/list", {"text": self.HEAD + lines, "keep": keep})

    def test_lines_are_read_first_and_kept_then(self, client, office):
        lines = "dev-1,g1,DEV-2,Port 2,first\n127.0.8.3,3,dev-4,,\n"
        assert self.read(client, lines).json() == {"added": 2, "problems": []}
        assert not ManualLink.objects.exists()
        assert self.read(client, lines, keep=True).json()["added"] == 2
        assert {(row["a"]["device"], row["b"]["device"]) for row in get(client, "links")["rows"]} == {
            ("dev-1", "dev-2"), ("dev-3", "dev-4"),
        }  # fmt: skip

    @pytest.mark.parametrize(
        ("line", "words"),
        [
            ("dev-9,g1,dev-2,g1,", "No device is called dev-9."),
            ("dev-1,g9,dev-2,g1,", "dev-1 has no port called g9."),
            (",g1,dev-2,g1,", "A device is missing."),
            ("dev-1,g1,dev-1,g2,", "the same device"),
            (f"dev-1,g1,dev-2,g1,{'x' * 201}", "more than 200"),
        ],
    )
    def test_every_line_keeps_its_own_problem_and_nothing_is_added(self, client, office, line, words):
        found = self.read(client, f"dev-3,g1,dev-4,g1,\n{line}\n").json()
        assert found["added"] == 1 and words in found["problems"][0]["problem"] and found["problems"][0]["number"] == 3
        is_problem(self.read(client, f"dev-3,g1,dev-4,g1,\n{line}\n", keep=True), 422, "Line 3")
        assert not ManualLink.objects.exists()

    def test_a_link_twice_and_a_name_that_two_devices_have(self, client, office):
        Device.objects.filter(pk=office[3].pk).update(name="dev-1")
        found = self.read(client, "dev-2,g1,dev-3,g1,\ndev-3,g1,dev-2,g1,\ndev-1,g1,dev-2,g2,\n").json()
        assert [each["problem"] for each in found["problems"]] == [
            "This link is entered already.", "Several devices are called dev-1.",
        ]  # fmt: skip

    def test_a_text_that_is_no_list_of_links(self, client, office):
        is_problem(post(client, "links/list", {"text": "a,b\n1,2\n"}), 422, "from_device and to_device are missing")
        is_problem(post(client, "links/list", {"text": ""}), 422, "columns")

    def test_ten_thousand_links_at_once(self, client, office):
        one, other = office[0], office[3]
        for device in (one, other):
            Interface.objects.bulk_create(
                Interface(device=device, if_index=n, name=f"p{n}", label=f"p{n}") for n in range(100, 10_100)
            )
        lines = "".join(f"dev-1,p{n},dev-4,p{n},\n" for n in range(100, 10_100))
        assert self.read(client, lines, keep=True).json() == {"added": 10_000, "problems": []}
        assert len(get(client, "map")["links"]) == 10_000

    def test_what_is_written_can_be_read(self, client, office):
        Device.objects.filter(pk=office[0].pk).update(name="-dev")
        entered(client, end(office[0], 1), end(office[3], 2))
        text = client.get("/api/v1/links.csv").content.decode()
        (row,) = csv.DictReader(io.StringIO(text))
        assert (row["from_device"], row["from_port"], row["note"]) == ("'-dev", "Port 1", "by hand")
        ManualLink.objects.all().delete()
        assert post(client, "links/list", {"text": text, "keep": True}).json()["added"] == 1

    def test_other_forms(self, client, pair):  # noqa: F811
        (link,) = get(client, "links.json")["links"]
        assert link["from"] == {"device": "sw", "port": "x1 label"} and link["evidence"] == "both ends"


@pytest.mark.django_db(transaction=True)
def test_who_is_limited_to_a_site_sees_its_map_alone_and_keeps_no_places(pair):  # noqa: F811
    headers, client = person("limited", Role.VIEWER, ["Site 1"]), Client()
    found = client.get("/api/v1/map?devices=true", **headers).json()
    assert [node["name"] for node in found["nodes"]] == ["sw"] and found["links"] == []
    assert not MapPosition.objects.exists()


def test_a_group_keeps_whether_it_is_a_transport(client):
    answer = post(client, "groups", {"name": "Ring", "condition": "role is wan", "is_transport": True})
    assert answer.status_code == 201 and Group.objects.get().is_transport
    (row,) = get(client, "groups")["rows"]
    assert row["is_transport"]


def test_the_figures_of_a_device_are_the_highest_of_each_kind(client, office):
    device = office[0]
    now = datetime.now(UTC)
    partitions.ensure((now - timedelta(days=1)).date(), (now + timedelta(days=1)).date())
    for number, load in ((1, 20.0), (2, 70.0)):
        part = Component.objects.create(
            device=device, kind="processor", index=str(number), name=f"CPU {number}", unit="%"
        )
        ComponentReading.objects.create(component=part, at=now - timedelta(seconds=5), value=load)
    (found,) = get(client, "map/figures", devices=[device.pk])
    (figure,) = found["figures"]
    assert (figure["name"], figure["unit"], figure["value"], len(figure["line"])) == ("processor", "%", 70.0, 24)
    assert (
        get(client, "map/figures", devices=[device.pk], at=(now - timedelta(hours=3)).isoformat())[0]["figures"] == []
    )
    assert get(client, "map/figures", devices=[987654]) == []


class TestBackgrounds:
    PNG = base64.b64encode(b"\x89PNG\r\n\x1a\n and more").decode()

    def lay(self, client, **more):
        body = {"map": "sites", "picture": self.PNG, "x": -10, "y": 0, "width": 800, "height": 400, **more}
        return client.put("/api/v1/map/background", body, content_type="application/json")

    def test_one_is_laid_moved_shown_and_taken_away(self, client, office):
        assert get(client, "map")["background"] is None
        assert self.lay(client).status_code == 204
        laid = get(client, "map")["background"]
        assert (laid["x"], laid["width"]) == (-10, 800)
        picture = client.get("/api/v1/map/background?map=sites")
        assert picture.content.startswith(b"\x89PNG") and picture.headers["Content-Type"] == "image/png"
        assert self.lay(client, picture=None, x=50).status_code == 204
        moved = get(client, "map")["background"]
        assert moved["x"] == 50 and moved["version"] == laid["version"], "the picture is the same"
        assert get(client, "map", devices=True)["background"] is None, "each map has its own"
        assert client.delete("/api/v1/map/background?map=sites", content_type="application/json").status_code == 204
        is_problem(client.get("/api/v1/map/background?map=sites"), 404, "There is no background")

    @pytest.mark.parametrize(
        ("more", "words"),
        [
            ({"picture": base64.b64encode(b"<svg onload='x'/>").decode()}, "PNG or JPEG"),
            ({"picture": "no base 64!"}, "base 64"),
            ({"picture": None}, "choose a picture"),
            ({"width": 0}, "one pixel"),
            ({"x": 1e9}, "million pixels"),
        ],
    )
    def test_what_is_none_is_refused(self, client, office, more, words):
        is_problem(self.lay(client, **more), 422, words)

    def test_a_viewer_may_not_and_who_is_limited_sees_those_of_their_sites(self, client, office):
        site = office[0].site_id
        self.lay(client, map=f"site-{site}")
        viewer = Client(**person("cleo", Role.VIEWER))
        assert self.lay(viewer).status_code == 403
        inside = Client(**person("bert", Role.VIEWER, sites=[office[0].site.name]))
        outside = Client(**person("dora", Role.VIEWER, sites=[office[3].site.name]))
        address = f"/api/v1/map/background?map=site-{site}"
        assert (inside.get(address).status_code, outside.get(address).status_code) == (200, 404)
