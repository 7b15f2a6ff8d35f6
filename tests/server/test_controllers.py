"""Controllers over the API: set up, tried, asked; members added; and who may do which of it."""

import asyncio
import json

import pytest
from django.test import Client

from lab.controller import PASSWORD, PROFILE, USER
from lumtar.core.access import Role
from lumtar.domain.audit.models import AuditChange
from lumtar.domain.controllers import answers
from lumtar.domain.controllers.models import Controller
from lumtar.domain.inventory import credentials
from lumtar.domain.inventory.models import Device, Site
from lumtar.domain.setup.text import apply, written
from lumtar.engine import controllers as engine
from tests.lab.overlay import overlay
from tests.server.calls import get, is_problem, streamed
from tests.server.test_access import person

pytestmark = pytest.mark.django_db(transaction=True)
JSON = "application/json"
SECRET = {"user": USER, "password": PASSWORD}


@pytest.fixture
def running():
    with overlay() as made:
        yield made


@pytest.fixture
def profile(client):
    made = client.post("/api/v1/controller-profiles", {"name": "County overlay", **PROFILE}, JSON)
    assert made.status_code == 201, made.content
    return made.json()["id"]


@pytest.fixture
def body(running, profile):
    _, base, authority, _ = running
    word = credentials.create("Read", "v2c", {"community": "word"})
    return {
        "name": "Manager", "base": base, "profile": profile, "secret": SECRET, "authority": authority, "credential": word.pk,
        "allowed": "127.0.0.0/8", "port": 1161,
    }  # fmt: skip


@pytest.fixture
def kept(client, body):
    made = client.post("/api/v1/controllers", body, JSON)
    assert made.status_code == 201, made.content
    return made.json()["id"]


def ask():
    """Ask every controller that is due, as the worker does."""
    now = engine.timezone.now()
    for wanted in engine.due(now):
        answers.keep(wanted.number, asyncio.run(engine.ask(wanted)), now)


def test_it_is_asked_and_its_members_are_added(client, kept):
    ask()
    (told,) = get(client, "controllers")
    assert told["problem"] == "" and told["new_members"] == 5
    assert told["counts"] == {"device": 5, "transport": 6, "tunnel": 6, "policy": 3, "alarm": 0}
    items = get(client, f"controllers/{kept}/items")
    one = next(item for item in items if item["name"] == "hex-wan-1")
    added = client.post(f"/api/v1/controllers/{kept}/members", {"items": [one["id"]]}, JSON).json()
    assert added == {"added": 1, "left": {}}
    device = Device.objects.get()
    assert (device.name, device.address, device.port, device.site.name) == ("hex-wan-1", "127.0.77.3", 1161, "Hex")
    Controller.objects.update(allowed="127.0.77.4/32")
    added = client.post(f"/api/v1/controllers/{kept}/members", {}, JSON).json()
    assert added["added"] == 1 and "may not have the address 127.0.77.1" in added["left"]["cen-wan-1"]
    assert is_problem(client.get(f"/api/v1/controllers/{kept}/items?kind=radio"), 422, "no list radio")


def test_what_one_signs_in_with_never_comes_back(client, kept, body):
    Controller.objects.update(asked_at=None)
    ask()
    everything = json.dumps([get(client, "controllers"), get(client, "audit")]) + written()
    assert PASSWORD not in everything and "sealed" not in json.dumps(get(client, "controllers"))
    assert AuditChange.objects.filter(table="controllers_controller").exists()
    changed = client.put(f"/api/v1/controllers/{kept}", {**body, "secret": None, "every_s": 300}, JSON)
    assert changed.json()["every_s"] == 300
    elsewhere = {**body, "secret": None, "base": "https://127.0.250.77"}
    assert is_problem(client.put(f"/api/v1/controllers/{kept}", elsewhere, JSON), 422, "enter again")


def test_a_profile_is_tried_before_it_is_kept(client, running, kept, body):
    _, base, authority, _ = running
    asked = {**PROFILE, "base": base, "authority": authority, "secret": SECRET}
    lines = [json.loads(line) for line in streamed(client.post("/api/v1/controllers/try", asked, JSON)).splitlines()]
    assert [(line["list"], line["count"]) for line in lines] == [
        ("device", 5), ("transport", 6), ("tunnel", 6), ("policy", 3), ("alarm", 0),
    ]  # fmt: skip
    assert lines[0]["rows"][0]["address"].startswith("127.0.77.")
    wrong = json.loads(json.dumps(asked))
    wrong["lists"]["device"]["fields"]["address"] = "$.ip"
    (line, *_) = streamed(client.post("/api/v1/controllers/try", wrong, JSON)).splitlines()
    assert "has no address for SNMP" in json.loads(line)["wrong"][0]
    stored = {**asked, "secret": None, "controller": kept}
    assert "edge-" in streamed(client.post("/api/v1/controllers/try", stored, JSON))
    # What is stored for one address is not sent to another one.
    other = {**stored, "base": "https://127.0.250.77"}
    assert is_problem(client.post("/api/v1/controllers/try", other, JSON), 422, "needs a user")
    unclear = {**asked, "lists": {"device": {**PROFILE["lists"]["device"], "rows": "items"}}}
    assert is_problem(client.post("/api/v1/controllers/try", unclear, JSON), 422, "no JSONPath")


def test_what_goes_wrong_is_told(client, running, kept):
    controller, *_ = running
    controller.manner.garbage = True
    ask()
    (told,) = get(client, "controllers")
    assert told["problem"] == (
        "what it says at /api/edges is no JSON; what it says at /api/lines is no JSON; what it says at /api/tunnels is no JSON;"
        " what it says at /api/policies is no JSON; what it says at /api/events is no JSON"
    )
    assert told["answered_at"] is None and told["asked_at"]


def test_who_may_do_what(client, kept, body, profile):
    engineer, viewer = person("ines", Role.ENGINEER), person("ralf", Role.VIEWER)
    Site.objects.create(name="Hexwater")
    limited = person("hex", Role.ENGINEER, sites=["Hexwater"])
    anybody = Client()
    assert anybody.get("/api/v1/controllers", **viewer).status_code == 200
    assert anybody.get("/api/v1/controllers", **limited).status_code == 403
    assert anybody.post("/api/v1/controllers", body, JSON, **engineer).status_code == 403
    assert (
        anybody.post("/api/v1/controllers/try", {**PROFILE, "base": body["base"]}, JSON, **engineer).status_code == 403
    )
    assert anybody.post(f"/api/v1/controllers/{kept}/ask", **viewer).status_code == 403
    assert anybody.post(f"/api/v1/controllers/{kept}/ask", **engineer).status_code == 204
    assert is_problem(client.delete(f"/api/v1/controller-profiles/{profile}"), 409, "has this profile")
    assert client.delete(f"/api/v1/controllers/{kept}").status_code == 204
    assert client.delete(f"/api/v1/controller-profiles/{profile}").status_code == 204


def test_they_are_part_of_the_set_up_as_text(client, kept, body, profile):
    text = written()
    assert not apply(text, "ines").changes
    assert apply(text.replace("allowed: 127.0.0.0/8", "allowed: 127.0.0.0/16"), "ines").changes
    assert Controller.objects.get().allowed == "127.0.0.0/16"
    Controller.objects.all().delete()
    assert "holds no secrets" in apply(text, "ines").problems[0].words
    broken = apply(text.replace("path: /api/edges", "place: /api/edges"), "ines")
    assert any("not known" in problem.words for problem in broken.problems)


def test_tunnels_are_told_with_their_ends_and_the_transport_beneath(client, running, kept):
    ask()
    client.post(f"/api/v1/controllers/{kept}/members", {}, JSON)
    _, _, _, devices = running
    devices["hex-wan-1"].set_link(1, False)
    Controller.objects.update(asked_at=None)
    ask()
    first, *others = get(client, "tunnels")
    assert (first["name"], first["up"], first["state"]) == ("hex-wan-1 wan1 – cen-wan-1", False, "down")
    assert first["transport"] == "Hex A" and all(each["up"] for each in others) and len(others) == 5
    names = dict(Device.objects.values_list("pk", "name"))
    assert (names[first["device_id"]], names[first["peer_id"]]) == ("hex-wan-1", "cen-wan-1")
    # Whoever is limited to a site sees those of its devices alone.
    limited = person("hex", Role.VIEWER, sites=["Hex"])
    seen = Client().get("/api/v1/tunnels", **limited).json()
    assert [each["name"] for each in seen] == ["hex-wan-1 wan1 – cen-wan-1", "hex-wan-1 wan2 – dep-wan-1"]
