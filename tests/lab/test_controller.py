"""The stand-in controller: what it tells follows the stand-in network, and commands make it behave otherwise."""

import json
import ssl
import urllib.error
import urllib.request

import pytest

from lab.controller import PASSWORD, TOKEN, USER, kept_certificate
from lab.faults import FaultRefused, carry_out
from tests.lab.overlay import overlay


@pytest.fixture
def running():
    with overlay() as made:
        yield made


def ask(running, path, token=TOKEN, body=None):
    _, base, authority, _ = running
    context = ssl.create_default_context(cadata=authority)
    request = urllib.request.Request(base + path, body and json.dumps(body).encode(), {"X-Overlay-Token": token})
    with urllib.request.urlopen(request, timeout=10, context=context) as answer:
        return json.load(answer)


def rows(running, path):
    return ask(running, path)["data"]["items"]


def command(running, *words):
    controller, _, _, devices = running
    return carry_out(devices, {"words": list(words)}, controller=controller)


def test_one_signs_in_before_anything_is_told(running):
    assert ask(running, "/api/session", "", {"user": USER, "password": PASSWORD}) == {"data": {"token": TOKEN}}
    for path, body in (("/api/edges", None), ("/api/session", {"user": USER, "password": "wrong"})):
        with pytest.raises(urllib.error.HTTPError, match="401"):
            ask(running, path, "", body)


def test_what_it_tells_follows_the_network(running):
    _, _, _, devices = running
    assert {row["health"] for row in rows(running, "/api/edges")} == {"online"} and rows(running, "/api/events") == []
    devices["hex-wan-1"].set_link(1, False)
    down = {row["label"] for row in rows(running, "/api/tunnels") if row["state"] == "down"}
    assert down == {"hex-wan-1 wan1 – cen-wan-1"}
    assert {row["label"] for row in rows(running, "/api/lines") if row["state"] == "down"} == {"Hex A"}
    devices["dep-wan-1"].manners.silent = True
    down = {row["label"] for row in rows(running, "/api/tunnels") if row["state"] == "down"}
    assert down == {"hex-wan-1 wan1 – cen-wan-1", *(f"{name}-wan-1 wan2 – dep-wan-1" for name in ("hex", "sal", "dun"))}
    events = {row["id"]: row for row in rows(running, "/api/events")}
    assert events["lost-dep-wan-1"]["level"] == "critical" and len(events) == 5


def test_long_lists_come_in_pages(running, monkeypatch):
    monkeypatch.setattr("lab.controller.PAGE", 2)
    seen, path = [], "/api/edges"
    while path:
        told = ask(running, path)
        seen += [row["hostname"] for row in told["data"]["items"]]
        path = told["next"]
    assert len(seen) == len(set(seen)) == 5


def test_commands_and_what_is_refused(running):
    controller, *_ = running
    command(running, "controller", "half")
    assert len(rows(running, "/api/edges")) == 2
    command(running, "controller", "policy", "voice", "B")
    (voice,) = [row for row in rows(running, "/api/policies") if row["match"] == "voice"]
    assert (voice["use"], voice["edited"]["by"]) == ("Transport B", "ines")
    command(running, "controller", "status", "503")
    with pytest.raises(urllib.error.HTTPError, match="503"):
        rows(running, "/api/edges")
    command(running, "controller", "clear")
    assert len(rows(running, "/api/edges")) == 5 and controller.manner.preferred["voice"] == "A"
    for words in (["slow", "many"], ["policy", "fax", "A"], ["policy", "voice", "C"], ["status", "9"], []):
        with pytest.raises(FaultRefused, match="controller"):
            command(running, "controller", *words)


def test_its_certificate_is_made_once_and_is_nobody_elses_to_read(tmp_path):
    first = kept_certificate(tmp_path / "var")
    assert kept_certificate(tmp_path / "var") == first
    assert (tmp_path / "var" / "controller.key").stat().st_mode & 0o077 == 0
