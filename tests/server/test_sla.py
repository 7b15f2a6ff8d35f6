"""Service classes, transports, and what is told of promises: judged minute by minute, reported by month."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from django.test import Client

from lumtar.core.access import Role
from lumtar.domain.alarms.models import Maintenance
from lumtar.domain.audit.models import AuditChange
from lumtar.domain.inventory.asking import subjects_for
from lumtar.domain.inventory.models import Site
from lumtar.domain.paths import classes, judging, store
from lumtar.domain.paths.models import Path, ServiceClass, Transport
from lumtar.domain.reports import jobs, sla
from tests.server.calls import get, is_problem
from tests.server.test_access import person

pytestmark = pytest.mark.django_db
JSON = "application/json"
HOUR = datetime(2026, 11, 3, 9, tzinfo=UTC)
"""A Tuesday."""
CLASS = {"name": "voice", "limits": {"path_delay_95": 60, "path_loss": 1}, "share": 90}


@pytest.fixture
def voice(client, user):
    for name in ("Depot", "Hexwater", "Dunmere"):
        Site.objects.create(name=name)
    made = client.post("/api/v1/service-classes", CLASS, JSON)
    assert made.status_code == 201, made.content
    line = {
        "name": "Hexwater line",
        "provider": "Cairnholm Lines",
        "site": "Hexwater",
        "price": 49.9,
        "currency": "eur",
    }
    assert client.post("/api/v1/transports", line, JSON).status_code == 201
    for table in (store.MINUTES, store.HOURS, judging.JUDGED):
        table.ensure(HOUR - timedelta(days=2), HOUR + timedelta(days=1))
    return made.json()["id"]


def path(client, goal="Hexwater", address="127.0.9.9", **more):
    body = {
        "name": f"To {goal}",
        "from_site": "Depot",
        "to_site": goal,
        "address": address,
        "service_class": "voice",
        **more,
    }
    made = client.post("/api/v1/paths", body, JSON)
    assert made.status_code == 201, made.content
    Path.objects.update(since=datetime(2026, 10, 1, tzinfo=UTC))
    return made.json()["id"]


def hour(number, ms, lost=(), at=HOUR, sent=60):
    """Sixty minutes of a path: round trips in milliseconds, and in which minutes everything was lost."""
    rows = np.zeros(60, store.ROW)
    for name in store.FLOATS:
        rows[name] = np.nan
    rows["path"], rows["at"], rows["sent"] = number, at.timestamp() + 60 * np.arange(60), sent
    rows["lost"][list(lost)] = sent
    for name in store.TRIPS:
        rows[name] = 1000 * np.broadcast_to(np.array(ms, "f8"), 60)
        rows[name][list(lost)] = np.nan
    store.append(rows)


def judge(at=HOUR):
    return judging.judge_hour(at, sla.in_maintenance(at, at + timedelta(hours=1)))


def kept(client, **asked):
    query = "&".join(f"{name}={value}" for name, value in {"month": "2026-11", **asked}.items())
    return get(client, f"sla?{query}")


def test_minutes_that_miss_a_target_are_counted_once_and_by_target(client, voice):
    one = path(client, transport="Hexwater line")
    hour(one, [20] * 50 + [90] * 10, lost=[0, 1, 59])
    assert judge() == 1
    told = kept(client)
    (row,) = told["rows"]
    assert (row["name"], row["judged"], row["missed"], row["paths"]) == ("voice", 60, 12, [one])
    assert row["missed_by"] == {"path_delay_95": 12, "path_loss": 3} and row["kept"] == 80
    assert row["available"] == 95 and row["days"][2] == 80 and row["days"][3] is None
    assert "1 of 1 were not kept" in told["words"] and "at most 60 ms" in told["promises"][0]
    # Judged anew it is the same.
    assert judge() == 1 and kept(client)["rows"][0]["judged"] == 60


def test_hours_without_a_promise_and_agreed_maintenance_are_left_out(client, voice):
    one, two = path(client), path(client, "Dunmere", "127.0.9.10")
    client.put(f"/api/v1/service-classes/{voice}", {**CLASS, "hours": "Tue 09:30-18:00"}, JSON)
    site = Site.objects.get(name="Dunmere")
    Maintenance.objects.create(
        name="New line", start=HOUR + timedelta(minutes=40), end=HOUR + timedelta(days=2)
    ).sites.add(site)
    for number in (one, two):
        hour(number, 90)
    judge()
    rows = {row["name"]: row for row in kept(client, by="path")["rows"]}
    assert (rows["To Hexwater"]["judged"], rows["To Hexwater"]["excluded"]) == (30, 0)
    assert (rows["To Dunmere"]["judged"], rows["To Dunmere"]["excluded"]) == (10, 20)


def test_what_was_judged_stays_as_it_was_judged(client, voice):
    one = path(client)
    hour(one, 90)
    judge()
    client.put(f"/api/v1/service-classes/{voice}", {**CLASS, "limits": {"path_delay_95": 200}, "share": 99}, JSON)
    hour(one, 90, at=HOUR + timedelta(hours=1))
    judge(HOUR + timedelta(hours=1))
    rows = {row["promised"]: row for row in kept(client)["rows"]}
    assert (rows[90]["missed"], rows[99]["missed"]) == (60, 0)
    # Of what is not promised any more nothing is to come; of what is, the rest of the month.
    start, end = sla.month("2026-11", "UTC")
    told = {
        row.share: row.budget for row in sla.report(start, end, HOUR + timedelta(hours=2, minutes=20), "class").rows
    }
    coming = (end - HOUR).total_seconds() / 60 - 120
    assert told[90].period == 60 and told[90].left == pytest.approx(6 - 60)
    assert told[99].period == 60 + coming and told[99].allowed == pytest.approx(0.01 * (60 + coming))
    assert told[99].forecast == 100


def test_reports_are_put_together_and_narrowed(client, voice):
    one, two = path(client, transport="Hexwater line"), path(client, "Dunmere", "127.0.9.10")
    hour(one, 20)
    hour(two, 90)
    judge()
    assert [(row["name"], row["kept"]) for row in kept(client, by="site")["rows"]] == [
        ("Dunmere", 0),
        ("Hexwater", 100),
    ]
    assert {row["name"] for row in kept(client, by="provider")["rows"]} == {"(none)", "Cairnholm Lines"}
    (row,) = kept(client, by="transport", provider="Cairnholm Lines")["rows"]
    assert row["name"] == "Hexwater line" and row["kept"] == 100
    assert kept(client, site="Nowhere")["rows"] == [] and kept(client, month="2026-10")["rows"] == []
    is_problem(client.get("/api/v1/sla?month=November"), 422, "no month")
    is_problem(client.get("/api/v1/sla?zone=Nowhere"), 422, "no time zone")


def test_groups_of_paths(client, voice):
    one = path(client, groups=["Branches", " Branches ", "North"])
    two = path(client, "Dunmere", "127.0.9.10", groups=["Branches"])
    three = path(client, "Depot", "127.0.9.11")
    for number, ms in ((one, 90), (two, 20), (three, 20)):
        hour(number, ms)
    judge()
    rows = {row["name"]: row for row in kept(client, by="group")["rows"]}
    assert rows["Branches"]["paths"] == [one, two] and rows["Branches"]["kept"] == 50
    assert rows["North"]["kept"] == 0 and rows["(none)"]["paths"] == [three]
    assert [row["paths"] for row in kept(client, by="path", group="North")["rows"]] == [[one]]
    assert subjects_for("path", 'path_group has "north"') == {one}
    assert subjects_for("path", "path_group has (branches, other)") == {one, two}
    known = {row["id"]: row["groups"] for row in get(client, "paths")}
    assert known == {one: ["Branches", "North"], two: ["Branches"], three: []}
    answer = client.post(
        "/api/v1/paths", {"name": "Many", "address": "127.0.9.12", "groups": [str(n) for n in range(21)]}, JSON
    )
    assert is_problem(answer, 422, "up to 20 groups")


def test_a_report_is_had_as_a_table_and_as_a_document(client, voice):
    one = path(client)
    hour(one, [20] * 50 + [90] * 10)
    judge()
    lines = client.get("/api/v1/sla/export?month=2026-11&by=path").content.decode().splitlines()
    assert lines[0].startswith("name,service_class,paths") and lines[1].startswith("To Hexwater,voice,1,90.0,83.33")
    told = client.get("/api/v1/sla/export?month=2026-11&by=path&format=pdf")
    assert told["Content-Type"] == "application/pdf" and told.content.startswith(b"%PDF-") and len(told.content) > 5000
    empty = client.get("/api/v1/sla/export?month=2025-01&format=pdf")
    assert empty.status_code == 200 and empty.content.startswith(b"%PDF-")


def test_a_path_tells_how_fast_its_budget_burns(client, voice):
    one = path(client)
    hour(one, [20] * 30 + [90] * 30)
    rows = store.read([one], HOUR, HOUR + timedelta(hours=1))
    frame = judging.frame_of(rows)
    assert np.mean(frame.missed) == 0.5 and np.mean(frame.missed / frame.allowed) == pytest.approx(5)


def test_classes_and_transports_are_set_up(client, voice):
    is_problem(client.post("/api/v1/service-classes", CLASS, JSON), 422, "already")
    is_problem(client.post("/api/v1/service-classes", {**CLASS, "name": "x", "limits": {}}, JSON), 422, "at least one")
    is_problem(
        client.post("/api/v1/service-classes", {**CLASS, "name": "x", "hours": "often"}, JSON), 422, "not understood"
    )
    line = {"name": "Another", "provider": "Fellbrook"}
    is_problem(client.post("/api/v1/transports", {**line, "site": "Nowhere"}, JSON), 422, "no site Nowhere")
    is_problem(client.post("/api/v1/transports", {**line, "currency": "€"}, JSON), 422, "three letters")
    is_problem(client.post("/api/v1/transports", {**line, "provider": " "}, JSON), 422, "provider")
    is_problem(client.post("/api/v1/transports", {**line, "down_bps": 0}, JSON), 422, "above nothing")
    one = path(client, transport="Hexwater line")
    assert get(client, "transports")[0]["paths"] == [one] and get(client, "transports")[0]["currency"] == "EUR"
    assert get(client, "service-classes")[0]["paths"] == 1
    (row,) = get(client, "paths")
    assert (row["service_class"], row["transport"], row["provider"]) == ("voice", "Hexwater line", "Cairnholm Lines")
    assert client.delete(f"/api/v1/service-classes/{voice}").status_code == 204
    assert client.delete(f"/api/v1/transports/{Transport.objects.get().pk}").status_code == 204
    assert get(client, "paths")[0]["service_class"] == "" and not ServiceClass.objects.exists()
    assert {"paths_serviceclass", "paths_transport"} <= set(AuditChange.objects.values_list("table", flat=True))
    assert classes.by_path() == {}


def test_people_who_are_limited_see_their_paths_alone(client, voice):
    one, two = path(client, transport="Hexwater line"), path(client, "Dunmere", "127.0.9.10")
    for number in (one, two):
        hour(number, 20)
    judge()
    browser = Client(**person("berta", Role.VIEWER, sites=["Dunmere"]))
    assert [row["name"] for row in kept(browser, by="path")["rows"]] == ["To Dunmere"]
    assert get(browser, "transports") == []
    is_problem(browser.post("/api/v1/service-classes", {**CLASS, "name": "x"}, JSON), 403, "")


def test_the_paths_that_are_nearest_to_their_promise_come_first(client, voice):
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    store.MINUTES.ensure(now - timedelta(hours=2), now)
    numbers = [path(client, goal, f"127.0.9.{n}") for n, goal in enumerate(("Hexwater", "Dunmere", "Depot"), 1)]
    for number, ms, lost in zip(numbers, (30, 90, 20), ((), (), range(60)), strict=True):
        hour(number, ms, lost, at=now - timedelta(hours=1))
    found = get(client, "paths/nearest")
    assert [(row["name"], row["measure"], row["share"]) for row in found] == [
        ("To Depot", "path_loss", None), ("To Dunmere", "path_delay_95", 1.5), ("To Hexwater", "path_delay_95", 0.5),
    ]  # fmt: skip
    assert (found[1]["value"], found[1]["limit"]) == (90, 60) and found[0]["value"] == 100
    assert len(get(client, "paths/nearest?limit=1")) == 1


def test_what_comes_late_is_judged_by_the_next_run_of_the_job(client, voice):
    one, at = path(client), datetime.now(UTC).replace(minute=0, second=0, microsecond=0) - timedelta(hours=9)
    store.MINUTES.ensure(at - timedelta(days=1), at + timedelta(days=1))
    month = f"{at:%Y-%m}"
    for ms, missed in ((20, 0), (90, 60)):
        hour(one, ms, at=at)
        jobs.judge_paths(timestamp=0)
        (row,) = kept(client, month=month)["rows"]
        assert row["missed"] == missed, "the worker was away, or the prober was without the database"
