"""Paths by the API: set up, shown over a time, and seen by whom they concern."""

from datetime import timedelta

import numpy as np
import pytest
from django.test import Client
from django.utils import timezone

from lumtar.core.access import Role
from lumtar.domain.alarms import rules
from lumtar.domain.audit.models import AuditChange
from lumtar.domain.inventory.models import Site
from lumtar.domain.inventory.services import add_device
from lumtar.domain.paths import levels, services, store, traced
from tests.server.calls import get, is_problem
from tests.server.test_access import person

pytestmark = pytest.mark.django_db
JSON = "application/json"
NOW = timezone.now()
BODY = {
    "name": "Depot – Hexwater, voice",
    "from_site": "Depot",
    "to_site": "Hexwater",
    "address": "127.0.9.9",
    "dscp": 46,
}


@pytest.fixture
def path(client, user):
    for name in ("Depot", "Hexwater"):
        Site.objects.create(name=name)
    made = client.post("/api/v1/paths", BODY, JSON)
    assert made.status_code == 201, made.content
    for table in levels.LEVELS:
        table.ensure(NOW - timedelta(days=2), NOW)
    return made.json()["id"]


def measured(path, ago, ms, lost=0):
    at = int(NOW.timestamp() // 60) * 60 - 60 * ago
    row = np.zeros(1, store.ROW)
    row["path"], row["at"], row["sent"], row["lost"], row["longest_burst"] = path, at, 60, lost, lost
    for name in store.FLOATS:
        row[name] = np.nan if lost == 60 else 1000.0 * ms
    store.append(row)


def test_a_path_is_shown_with_its_figures_and_levels(client, path):
    measured(path, 9, 20)
    measured(path, 8, 40, lost=30)
    measured(path, 7, 0, lost=60)
    levels = [{"severity": 3, "limit": 30, "clear": 25}]
    rules.create({"name": "Slow", "measure": "path_delay_95", "levels": levels, "scope": "goal is Hexwater"}, "anna")
    (row,) = get(client, "paths")
    assert (row["name"], row["from_site"], row["to_site"], row["dscp"]) == (BODY["name"], "Depot", "Hexwater", 46)
    figures = row["figures"]
    assert (figures["sent"], figures["lost"], figures["path_burst"]) == (180, 90, 60)
    assert figures["path_loss"] == 50 and figures["path_delay"] == pytest.approx((20 * 60 + 40 * 30) / 90)
    assert 1 <= figures["path_mos"] < 3
    assert [(each["measure"], each["limit"]) for each in row["limits"]] == [("path_delay_95", 30)]
    told = get(client, f"paths/{path}")
    assert told["step_s"] == 60 and told["sent"] == [60, 60, 60] and told["lost"] == [0, 30, 60]
    assert told["p50"] == [20, 40, None] and told["mos"][2] == 1
    assert told["path"]["figures"] == figures
    day = get(client, f"paths/{path}?start={(NOW - timedelta(days=1)):%Y-%m-%dT%H:%M:%SZ}")
    assert day["step_s"] == 3600 and sum(day["sent"]) == 180, "hours that are not joined yet are joined when asked for"
    year = get(client, f"paths/{path}?start={(NOW - timedelta(days=365)):%Y-%m-%dT%H:%M:%SZ}")
    assert year["step_s"] == 86_400 and sum(year["sent"]) == 180 and max(year["longest"]) == 40
    assert year["path"]["figures"] == figures, "however wide the drawing, figures are those of what is stored"


def test_a_path_without_anything_measured(client, path):
    (row,) = get(client, "paths")
    assert row["figures"]["sent"] == 0 and row["figures"]["path_delay"] is None
    assert get(client, f"paths/{path}")["at"] == []
    assert client.get("/api/v1/paths/987654").status_code == 404


def test_paths_are_changed_and_deleted(client, path):
    for wrong, words in (
        ({"to_site": "Nowhere"}, "no site Nowhere"), ({"dscp": 99}, "DSCP"), ({"address": "nobody"}, "address"), ({"every_ms": 1}, "20 to 3,600,000"),
    ):  # fmt: skip
        is_problem(client.put(f"/api/v1/paths/{path}", {**BODY, **wrong}, JSON), 422, words)
    is_problem(client.post("/api/v1/paths", BODY, JSON), 422, "already")
    changed = client.put(f"/api/v1/paths/{path}", {**BODY, "name": "Voice", "enabled": False}, JSON)
    assert changed.json()["name"] == "Voice" and AuditChange.objects.exists()
    viewer = Client(**person("viewer-1", Role.VIEWER))
    assert viewer.get("/api/v1/paths").status_code == 200
    assert viewer.delete(f"/api/v1/paths/{path}").status_code == 403
    assert client.delete(f"/api/v1/paths/{path}").status_code == 204
    assert client.delete(f"/api/v1/paths/{path}").status_code == 404


def test_who_is_limited_sees_the_paths_of_their_sites(client, path):
    Site.objects.create(name="Elsewhere")
    measured(path, 9, 20)
    mine = Client(**person("mine", Role.VIEWER, sites=["Hexwater"]))
    (row,) = mine.get("/api/v1/paths").json()
    assert row["figures"]["sent"] == 60
    other = Client(**person("other", Role.VIEWER, sites=["Elsewhere"]))
    assert other.get("/api/v1/paths").json() == [] and other.get(f"/api/v1/paths/{path}").status_code == 404


def test_a_route_is_traced_to_an_address_and_shown(client, user):
    body = {
        "name": "Films",
        "kind": "http",
        "asked": "https://films.example/",
        "every_ms": 30000,
        "port": 0,
        "traces": True,
    }
    told = client.post("/api/v1/paths", body, "application/json")
    assert told.status_code == 422 and "traced to an address" in told.json()["detail"]
    made = client.post("/api/v1/paths", {**body, "address": "192.0.2.9"}, "application/json").json()
    traced.note({made["id"]: ["192.0.2.1", "192.0.2.9"]}, timezone.now() - timedelta(minutes=2))
    (row,) = client.get(f"/api/v1/paths/{made['id']}/routes").json()
    assert row["hops"] == ["192.0.2.1", "192.0.2.9"]


def test_many_paths_over_a_time_at_once(client, path):
    other = client.post("/api/v1/paths", {**BODY, "name": "Other", "dscp": 10}, JSON).json()["id"]
    measured(path, 9, 20)
    measured(path, 5, 80)
    told = get(client, "paths/courses", paths=[path, other, 987654], measure="path_delay_95")
    assert [row["id"] for row in told["rows"]] == [path, other]
    mine, nothing = (row["values"] for row in told["rows"])
    assert len(mine) == len(told["at"]) and sorted(value for value in mine if value is not None) == [20, 80]
    assert set(nothing) == {None}
    place = [value is not None for value in mine].index(True)
    at = NOW.timestamp() // 60 * 60 - 9 * 60
    assert told["at"][place] <= at < told["at"][place] + told["step_s"]
    week = get(client, "paths/courses", paths=[path], start=f"{(NOW - timedelta(days=7)):%Y-%m-%dT%H:%M:%SZ}")
    assert week["step_s"] % 3600 == 0 and len(week["at"]) <= 49 and any(week["rows"][0]["values"])
    assert is_problem(
        client.get("/api/v1/paths/courses", {"paths": [path], "measure": "load"}), 422, "no measure of paths"
    )
    many = client.get("/api/v1/paths/courses", {"paths": list(range(1, 500))})
    assert is_problem(many, 422, "paths")


@pytest.mark.django_db(transaction=True)
def test_a_path_that_a_device_measures_itself(client, path):
    device = add_device("127.0.9.1", name="dep-wan-1", site="Depot", kind="v2c", secret={"community": "word"})
    body = {**BODY, "name": "By the router", "kind": "device", "address": "", "asked": "network/voice"}
    assert is_problem(client.post("/api/v1/paths", body, JSON), 422, "which device makes this test")
    assert is_problem(
        client.post("/api/v1/paths", {**body, "device": device.pk, "asked": "voice"}, JSON), 422, "stroke"
    )
    made = client.post("/api/v1/paths", {**body, "device": device.pk}, JSON)
    assert made.status_code == 201 and made.json()["device_name"] == "dep-wan-1"
    assert services.of_prober("prober") and all(row.kind != "device" for row in services.of_prober("prober"))
    told = get(client, f"devices/{device.pk}/tests")
    assert told["tests"] == [] and "closed" in told["fault"]
