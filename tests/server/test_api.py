"""The API as a client sees it."""

import csv
import io
import json
from collections import Counter
from datetime import UTC, datetime, timedelta

import pytest
from django.core.management import CommandError, call_command
from django.test import Client

from lumtar.domain.alarms.models import Alarm, Rule
from lumtar.domain.inventory.models import Credential, Device, Interface
from lumtar.domain.operation.models import Process
from lumtar.domain.operation.registry import SERVICES
from lumtar.server.api.schema import Schema
from tests.alarms import plan_for
from tests.network import fill
from tests.server.calls import get, is_problem

pytestmark = pytest.mark.django_db


@pytest.fixture
def network(user):
    return fill(3.0)


class TestSession:
    def test_signing_in_and_out(self, user):
        client = Client(enforce_csrf_checks=True)
        assert client.get("/api/v1/session").json() == {
            "user": None,
            "role": None,
            "limited": False,
            "first_run": False,
        }
        token = {"HTTP_X_CSRFTOKEN": client.cookies["lumtar_csrf"].value}
        wrong = client.post("/api/v1/session", {"name": "anna", "password": "no"}, "application/json", **token)
        assert is_problem(wrong, 401, "Wrong name or password")
        right = client.post(
            "/api/v1/session", {"name": "anna", "password": "a-good-long-word"}, "application/json", **token
        )
        assert right.json()["user"] == "anna"
        assert client.get("/api/v1/now").status_code == 200
        token = {"HTTP_X_CSRFTOKEN": client.cookies["lumtar_csrf"].value}
        assert client.delete("/api/v1/session", **token).json()["user"] is None
        assert is_problem(client.get("/api/v1/now"), 401, "Sign in")

    def test_a_write_from_another_site_is_refused(self, user):
        client = Client(enforce_csrf_checks=True)
        client.force_login(user)
        assert client.patch("/api/v1/rules/1", {}, "application/json").status_code == 403

    def test_guessing_is_stopped(self, user):
        client = Client()
        for _ in range(10):
            client.post("/api/v1/session", {"name": "anna", "password": "no"}, "application/json")
        locked = client.post("/api/v1/session", {"name": "anna", "password": "a-good-long-word"}, "application/json")
        assert is_problem(locked, 403, "Too many wrong passwords")

    def test_the_first_visit_makes_the_administrator(self, db):
        client = Client()
        assert client.get("/api/v1/session").json() == {"user": None, "role": None, "limited": False, "first_run": True}
        short = client.post("/api/v1/session/first-run", {"name": "bert", "password": "short"}, "application/json")
        assert is_problem(short, 422, "too short")
        made = client.post(
            "/api/v1/session/first-run", {"name": "bert", "password": "a-good-long-word"}, "application/json"
        )
        assert made.json() == {"user": "bert", "role": "administrator", "limited": False, "first_run": False}
        again = Client().post(
            "/api/v1/session/first-run", {"name": "eve", "password": "a-good-long-word"}, "application/json"
        )
        assert is_problem(again, 409, "already")

    def test_tokens(self, user, capsys):
        call_command("apitoken", "anna")
        token = capsys.readouterr().out.strip()
        assert Client().get("/api/v1/devices", HTTP_AUTHORIZATION=f"Bearer {token}").status_code == 200
        assert is_problem(Client().get("/api/v1/devices", HTTP_AUTHORIZATION="Bearer lumtar_x"), 401, "Sign in")
        with pytest.raises(CommandError, match="There is no user 'zoe'; there is anna"):
            call_command("apitoken", "zoe")


@pytest.mark.parametrize(
    "path", ["now", "devices", "interfaces", "alarms", "logbook", "sites", "rules", "timeline", "devices/1", "events"]
)
def test_nothing_is_told_to_strangers(path, db):
    assert Client().get(f"/api/v1/{path}").status_code == 401


def test_health_needs_no_sign_in_and_holds_no_names(network):
    body = Client().get("/api/v1/health").json()
    assert body["ok"] is True and body["words"] == "all well"
    assert {process["name"] for process in body["processes"]} == {kind.name for kind in SERVICES}
    assert "hex-wan" not in json.dumps(body)
    Process.objects.filter(name="worker").update(beat_at=datetime.now(UTC) - timedelta(minutes=5))
    body = Client().get("/api/v1/health").json()
    assert body["ok"] is False and body["words"].startswith("the worker is not running since")


def test_the_description_is_complete(client):
    told = client.get("/api/v1/openapi.json").json()
    assert told["openapi"].startswith("3.")
    assert {"/api/v1/now", "/api/v1/interfaces/{interface}/series", "/api/v1/health"} <= set(told["paths"])
    for path, methods in told["paths"].items():
        for method, call in methods.items():
            assert call.get("description"), f"{method} {path} says nothing of itself"


def test_now(client, network):
    told = get(client, "now")
    assert told["headline"]["strong"] == "hex-wan-1 Transport A"
    assert "95 % full outbound" in told["headline"]["rest"]
    assert "2 of 2 devices answer" in told["headline"]["second"]
    cause = told["causes"][0]
    assert cause["row"]["severity"] == 4 and len(cause["spark"]) == 48
    assert max(value for value in cause["spark"] if value is not None) == pytest.approx(95, abs=0.5)
    assert [site["name"] for site in told["sites"]] == ["Hexwater", "Saltby"]
    assert told["sites"][0]["loads"] == [95.0, 0.0, 0.0, -1.0]
    assert told["busiest"][0]["device"] == "hex-wan-1"


def test_now_as_it_was(client, network):
    at = (datetime.now(UTC) - timedelta(hours=1)).isoformat()
    told = get(client, "now", at=at)
    assert told["headline"]["strong"] == "All was well."
    assert told["sites"][0]["loads"][0] == pytest.approx(2)
    then = (datetime.now(UTC) - timedelta(hours=1, minutes=55)).isoformat()
    assert get(client, "now", at=then)["causes"][0]["row"]["label"] == "sal-acc-1"


def test_ports_and_devices(client, network):
    told = get(client, "interfaces", sort="load", limit=3)
    assert told["total"] == 8 and len(told["rows"]) == 3
    first = told["rows"][0]
    assert (first["device"], first["label"], first["severity"]) == ("hex-wan-1", "Transport A", 4)
    assert first["in_percent"] == pytest.approx(30) and first["load"] == pytest.approx(95)
    seen = [row["id"] for row in told["rows"]]
    while told["next"]:
        told = get(client, "interfaces", sort="load", limit=3, cursor=told["next"])
        seen += [row["id"] for row in told["rows"]]
    assert len(seen) == len(set(seen)) == 8
    assert [row["name"] for row in get(client, "devices")["rows"]] == ["hex-wan-1", "sal-acc-1"]
    assert get(client, "devices", site="Saltby")["total"] == 1
    assert get(client, "sites") == [
        {"name": "Hexwater", "devices": 1, "ports": 4},
        {"name": "Saltby", "devices": 1, "ports": 4},
    ]


def test_one_device(client, network):
    told = get(client, f"devices/{network[0].pk}")
    assert told["row"]["reach"] == "answers" and told["credential"] == "SNMP v2c"
    assert told["components"][0]["value"] == 17.0
    parts = get(client, f"devices/{network[0].pk}/components")["components"]
    assert {part["name"] for part in parts} == {"Processor 1", "Round trip"}
    assert '"word"' not in json.dumps(told)


def test_series_working_and_csv_tell_the_same(client, network):
    port = Interface.objects.get(device=network[0], if_index=1)
    end = datetime.now(UTC).replace(second=0, microsecond=0) - timedelta(minutes=1)
    span = {"start": (end - timedelta(hours=2)).isoformat(), "end": end.isoformat()}
    told = get(client, f"interfaces/{port.pk}/series", **span, points=1500)
    assert told["step_s"] == 60
    rates = [value for value in told["out_bps"] if value is not None]
    assert max(rates) == pytest.approx(0.95e9, rel=1e-3)
    assert told["out_bps"].count(None) in (9, 10, 11)
    working = get(client, f"interfaces/{port.pk}/calculation", at=(end - timedelta(minutes=2)).isoformat())
    assert working[1]["figure"] == "950 Mb/s"
    assert working[1]["lines"][0] == "7,125,000,000 octets counted in 60.00 s × 8"
    assert working[1]["lines"][-1] == "= 95.0 % of 1 Gb/s, from ifHighSpeed"
    answer = client.get(f"/api/v1/interfaces/{port.pk}/series.csv", span)
    rows = list(csv.DictReader(io.StringIO(b"".join(answer.streaming_content).decode())))
    assert [float(row["out_bps"]) if row["out_bps"] else None for row in rows] == told["out_bps"]


def test_the_calculation_of_nothing_says_so(client, network):
    port = Interface.objects.get(device=network[0], if_index=1)
    old = (datetime.now(UTC) - timedelta(days=30)).isoformat()
    told = get(client, f"interfaces/{port.pk}/calculation", at=old)[0]
    assert told["figure"] == "no rate" and "60 missing" in told["lines"][0]


def test_alarms(client, network):
    standing = get(client, "alarms")["rows"]
    assert [row["type"] for row in standing] == ["utilisation"]
    every = get(client, "alarms", active=False)["rows"]
    assert {row["type"] for row in every} == {"utilisation", "unreachable"}
    one = get(client, f"alarms/{standing[0]['id']}")
    assert [change["severity"] for change in one["changes"]] == [4]
    buckets = get(client, "timeline", buckets=24)
    assert len(buckets) == 24 and buckets[-1]["worst"] == 4


def test_changing_a_rule(client, network):
    rule = Rule.objects.get(name="Utilisation")

    def change(**values):
        return client.patch(f"/api/v1/rules/{rule.pk}", values, "application/json")

    def level(limit, clear, severity=4):
        return {"severity": severity, "limit": limit, "clear": clear, "low": None, "low_clear": None}

    wanted = [level(70, 60, 3), level(80, 75)]
    assert change(levels=wanted, plan_id=plan_for("a@oskelund.example").pk).json()["levels"] == wanted
    assert is_problem(change(levels=[level(70, 75)]), 422, "clearing limit must not be above the limit")
    assert is_problem(change(levels=[level(80, 75), level(70, 65, 3)]), 422, "rising order")
    assert is_problem(change(times=0, of=0), 422, "number of values")
    assert is_problem(change(levels=[level(70, 60, 9)]), 422, "severity")
    assert is_problem(change(scope="lable is x"), 422, "lable")
    assert is_problem(change(plan_id=4_000_000), 422, "call plan")
    assert is_problem(client.patch("/api/v1/rules/999999", {"times": 2}, "application/json"), 404, "no such rule")
    rule.refresh_from_db()
    assert (rule.levels, rule.plan.name) == (wanted, "Mail to a@oskelund.example")
    assert change(times=3).json()["plan"] == "Mail to a@oskelund.example", "what is not named stays"
    assert change(plan_id=None).json()["plan"] is None


RULE = {
    "name": "Busy links",
    "measure": "load",
    "statistic": "mean",
    "window_s": 600,
    "levels": [{"severity": 4, "limit": 60, "clear": 50}],
}


def test_a_rule_is_rehearsed_made_and_deleted(client, network):
    plan = plan_for("a@oskelund.example")

    def post(path, **values):
        return client.post(f"/api/v1/{path}", {**RULE, "plan_id": plan.pk, **values}, "application/json")

    done = post("rules/rehearsal", days=1).json()
    port = Interface.objects.get(device__name="hex-wan-1", if_index=1)
    assert (done["alarms"], done["step_s"], done["listed"][0]["label"]) == (1, 0, "hex-wan-1 Transport A")
    assert done["messages"] == {"a@oskelund.example": 1} and done["noisiest"][0]["subject_id"] == port.pk
    line = post("rules/rehearsal/line", days=1, subject_id=port.pk).json()
    assert len(line["at"]) == len(line["value"]) > 100 and max(filter(None, line["value"])) > 90
    assert is_problem(post("rules/rehearsal/line", scope="role is wan", subject_id=port.pk), 422, "not among")
    assert is_problem(post("rules/rehearsal", window_s=30), 422, "choose at least")
    assert is_problem(post("rules/rehearsal", measure="beauty"), 422, "no measure")
    made = post("rules")
    assert made.status_code == 201 and made.json()["unit"] == "%"
    assert is_problem(post("rules"), 422, "already exists")
    assert is_problem(post("rules", name="Own", measure="lumtar"), 422, "one rule about Lumtar")
    words = get(client, "rules/vocabulary")
    assert {each["name"] for each in words["statistics"]} >= {"value", "mean", "rate", "missing"}
    path = f"/api/v1/rules/{made.json()['id']}"
    assert client.delete(path).status_code == 204 and is_problem(client.delete(path), 404, "no such rule")
    own = Rule.objects.get(measure="lumtar")
    assert is_problem(client.delete(f"/api/v1/rules/{own.pk}"), 422, "not deleted")


def test_the_rules_that_apply_to_a_port_and_to_a_device(client, network):
    first, second = Interface.objects.filter(device__name="hex-wan-1").order_by("if_index")[:2]
    body = {**RULE, "scope": 'label is "Transport A"'}
    assert client.post("/api/v1/rules", body, "application/json").status_code == 201
    assert [rule["name"] for rule in get(client, "rules", interface=first.pk)] == ["Utilisation", "Busy links"]
    assert [rule["name"] for rule in get(client, "rules", interface=second.pk)] == ["Utilisation"]
    assert [rule["name"] for rule in get(client, "rules", device=network[0].pk)] == ["Reachability"]
    Rule.objects.filter(name="Reachability").update(enabled=False)
    assert get(client, "rules", device=network[0].pk) == []


def test_actions_on_alarms(client, network):
    number = get(client, "alarms")["rows"][0]["id"]

    def post(**values):
        return client.post("/api/v1/alarms/actions", {"alarms": [number], **values}, "application/json")

    assert post(kind="acknowledge", text="on my way").json() == {"alarms": 1}
    one = get(client, f"alarms/{number}")
    assert one["row"]["acknowledged_by"] and one["actions"][0]["text"] == "on my way"
    assert post(kind="shelve", for_s=3600).status_code == 200
    assert get(client, "alarms")["rows"] == [] and get(client, "now")["active"] == 0
    assert [row["id"] for row in get(client, "alarms", shelved=True)["rows"]] == [number]
    assert is_problem(post(kind="comment"), 422, "needs a text")
    assert is_problem(post(kind="shelve", for_s=10**12), 422, "90 days")
    assert post(kind="dance").status_code == 422


def test_adding_a_device(client, network):
    body = {"address": "127.0.0.77", "kind": "v2c", "secret": {"community": "quite-secret"}}
    made = client.post("/api/v1/devices", body, "application/json")
    assert made.status_code == 201
    assert "quite-secret" not in made.content.decode()
    assert is_problem(client.post("/api/v1/devices", body, "application/json"), 422, "There is a device at")
    assert Device.objects.filter(address="127.0.0.77").exists()
    for secret in Credential.objects.values_list("sealed", flat=True):
        assert "quite-secret" not in secret


BAD = [
    ("devices/999999", {}, 404, "nothing with that number"),
    ("interfaces/999999/series", {}, 404, "nothing with that number"),
    ("alarms/999999", {}, 404, "no such alarm"),
    ("devices/one", {}, 404, "no such call"),
    ("now", {"at": "yesterday"}, 422, "not valid"),
    ("now", {"at": "2099-01-01T00:00:00Z"}, 422, "future"),
    ("interfaces", {"sort": "colour"}, 422, "There is no order 'colour'"),
    ("interfaces", {"cursor": "!"}, 422, "not a cursor"),
    ("interfaces", {"limit": "lots"}, 422, "not valid"),
    ("timeline", {"start": "2026-11-02T00:00:00Z", "end": "2026-11-01T00:00:00Z"}, 422, "ends before it starts"),
    ("timeline", {"start": "1999-01-01T00:00:00Z", "end": "2026-11-01T00:00:00Z"}, 422, "ten years"),
    ("nonsense", {}, 404, "no such call"),
]


@pytest.mark.parametrize(
    ("path", "query", "status", "words"), BAD, ids=[f"{path} {words}" for path, _, _, words in BAD]
)
def test_what_cannot_be_answered_is_a_problem_in_words(client, network, path, query, status, words):
    assert is_problem(client.get(f"/api/v1/{path}", query), status, words)


@pytest.mark.parametrize(
    "body",
    [
        "",
        "{",
        "[]",
        '{"address": 5}',
        '{"address": "x", "port": "many", "secret": {}}',
        '{"address":"x","kind":"v9","secret":{}}',
    ],
)
def test_bodies_that_are_junk(client, body):
    assert client.post("/api/v1/devices", body, "application/json").status_code in (400, 422)


def test_an_interface_that_is_gone(client, network):
    port = Interface.objects.get(device=network[0], if_index=2)
    Interface.objects.filter(pk=port.pk).update(gone_at=datetime.now(UTC))
    assert is_problem(client.get(f"/api/v1/interfaces/{port.pk}"), 404, "does not list this interface")


def test_lists_cost_the_same_number_of_queries_however_long(client, network, django_assert_max_num_queries):
    with django_assert_max_num_queries(8):
        get(client, "interfaces")
    with django_assert_max_num_queries(12):
        get(client, "now")


def test_adddevice_command(db, capsys, monkeypatch):
    """What is secret is asked for, since every user of the machine can read a command line."""

    def call(*words, told):
        monkeypatch.setattr("sys.stdin", io.StringIO(told))
        call_command("adddevice", *words)

    call("127.0.0.5", "--port", "1161", "--site", "Depot", told="word\n")
    call("127.0.0.7", "--user", "anna", "--auth", "sha256", told="authenticate-me\n")
    assert capsys.readouterr().out.count("is added") == 2
    for words, told, said in (
        (["127.0.0.6"], "", "needs a community"),
        (["127.0.0.6", "--user", "anna", "--auth", "sha256"], "short\n", "at least 8 characters"),
        (["127.0.0.5", "--port", "1161"], "word\n", "There is a device"),
    ):
        with pytest.raises(CommandError, match=said):
            call(*words, told=told)


def test_everything_else_is_the_application(client):
    answer = client.get("/fleet/port/7")
    assert answer.status_code == 200
    assert b"<title>Lumtar</title>" in b"".join(answer.streaming_content)
    assert "default-src 'self'" in answer.headers["Content-Security-Policy"]


def test_alarm_rows_name_no_more_than_they_should(client, network):
    assert Alarm.objects.count() == 2
    assert set(get(client, "alarms")["rows"][0]) == {
        "id", "type", "resource", "resource_id", "label", "site", "page", "device_id", "interface_id", "severity", "text", "changed_at",
        "raised_at", "rule", "plan", "notified", "message_state", "acknowledged_by", "acknowledged_at",
        "shelved_by", "shelved_until", "shelf", "cause_id", "cause_reason", "consequences", "raised_lately",
    }  # fmt: skip


def test_no_two_schemas_have_the_same_name():
    """The description of the API knows them by name alone: the one would be told as the other."""
    names = Counter(each.__name__ for each in _below(Schema) if each.__module__.startswith("lumtar.server.api"))
    assert [name for name, number in names.items() if number > 1] == []


def _below(kind):
    for each in kind.__subclasses__():
        yield each
        yield from _below(each)
