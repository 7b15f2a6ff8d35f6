"""Who may call what: every call of the API with each role, with a limit, and with nobody at all."""

from datetime import timedelta

import pytest
from django.contrib.auth.models import User
from django.db import connection
from django.test import Client
from django.utils import timezone

from lumtar.core.access import Role
from lumtar.core.alarms.severity import Severity
from lumtar.domain.accounts import services
from lumtar.domain.accounts.models import Account, ApiToken
from lumtar.domain.accounts.services import Wanted
from lumtar.domain.alarms.models import Alarm, AlarmAction, Call, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.audit.models import AuditChange, AuditEntry
from lumtar.domain.inventory.models import Device, Group, Interface, Site
from lumtar.domain.logbook.models import Entry
from lumtar.domain.paths.models import Move, Path, Transport
from lumtar.server import limiting
from lumtar.server.api import access
from lumtar.server.api.root import api
from tests.alarms import plan_for, transition
from tests.network import fill

pytestmark = pytest.mark.django_db
PASSWORD = "a-good-long-word-7"


def calls():
    """Method, path and need of every call."""
    for prefix, router in api._routers:
        for path, view in router.path_operations.items():
            for operation in view.operations:
                for method in operation.methods:
                    yield method, f"{prefix}/{path.strip('/')}".strip("/"), operation.view_func.needs


CALLS = sorted(set(calls()), key=str)


@pytest.fixture(autouse=True)
def fresh():
    for limit in limiting.EVERY_LIMIT:
        limit.forget()
    access._remembered.clear()


def person(name, role, sites=(), groups=()):
    """A person with a token, without a password; what they send the token with."""
    made = User.objects.create(username=name)
    account = Account.objects.create(user=made, role=role)
    account.sites.set(Site.objects.filter(name__in=sites))
    account.groups.set(Group.objects.filter(name__in=groups))
    return {"HTTP_AUTHORIZATION": f"Bearer {services.new_token(made, name)}"}


def call(method, path, who, number=987_654):
    path = path.replace("{int:", "{")
    while "{" in path:
        begin, _, rest = path.partition("{")
        path = f"{begin}{number}{rest.partition('}')[2]}"
    return Client().generic(method, f"/api/v1/{path}", b"{}" if method != "GET" else b"", "application/json", **who)


def test_there_are_calls_and_each_says_what_it_needs():
    assert len(CALLS) > 95
    for_anybody = {"health", "session", "session/first-run", "answers", "answers/look"}
    assert {path for _, path, need in CALLS if need is None} == for_anybody
    with pytest.raises(TypeError, match="needs"):
        access.Router().get("/nothing-said")
    assert api.auth, "what is registered some other way needs an administrator"


@pytest.mark.parametrize(("method", "path", "need"), CALLS, ids=lambda each: str(each) if isinstance(each, str) else "")
def test_every_call_asks_for_what_it_needs(method, path, need, client):
    if need is None:
        assert call(method, path, {}).status_code != 401
        return
    assert call(method, path, {}).status_code == 401
    assert call(method, path, {"HTTP_AUTHORIZATION": "Bearer lumtar_none"}).status_code == 401
    for role in Role:
        answer = call(method, path, person(f"somebody-{role}", role))
        if role.may(need.role):
            assert answer.status_code not in (401, 403), (role, answer.content)
        else:
            assert answer.status_code == 403 and f"needs the role {need.role}" in answer.json()["detail"]
    if need.everything:
        Site.objects.get_or_create(name="Hexwater")
        limited = call(method, path, person("limited", Role.ADMINISTRATOR, ["Hexwater"]))
        assert limited.status_code == 403 and "limited to a part" in limited.json()["detail"]


@pytest.fixture
def two_sites():
    devices = fill(1.5)
    for device in devices:
        Entry.objects.create(at=timezone.now(), kind="user", device=device, text=f"a word on {device.name}")
        Group.objects.create(name=f"of {device.name}").devices.add(device)
        lines = [
            Transport.objects.create(name=f"{device.name} {name}", provider=f"{device.name} Lines", site=device.site)
            for name in "AB"
        ]
        Path.objects.create(name=f"to {device.name}", to_site=device.site, address=device.address, transport=lines[0])
        Move.objects.create(site=device.site, from_transport=lines[0], to_transport=lines[1], at=timezone.now())
    return devices


FOREIGN = ("sal-acc-1", "Saltby")


def listed(path):
    """Ways to ask for a list, with every part of the network in it for those who may see it."""
    more = {
        "timeline": ["?start=2026-01-01T00:00:00Z"],
        "top": ["?measure=busiest", ""],
        "catalogue": ["?changed=2026-01-01", ""],
    }
    return [f"/api/v1/{path}{query}" for query in more.get(path, [""])]


@pytest.mark.parametrize("limit", [{"sites": ["Hexwater"]}, {"groups": ["of hex-wan-1"]}], ids=["site", "group"])
def test_who_is_limited_sees_nothing_else_whatever_they_ask(two_sites, limit):
    own, foreign = two_sites
    everybody, limited = person("all", Role.ADMINISTRATOR), person("limited", Role.ADMINISTRATOR, **limit)
    ports = {
        device.pk: list(device.interfaces.order_by("if_index").values_list("pk", flat=True)) for device in two_sites
    }
    gets = [path for method, path, need in CALLS if method == "GET" and need is not None and not need.everything]
    seen = 0
    for path in gets:
        if "{" not in path:
            for address in listed(path):
                answer = Client().get(address, **limited)
                body = answer.getvalue() if answer.streaming else answer.content
                assert answer.status_code in (200, 404, 422), (address, body)
                for name in FOREIGN:
                    assert name.encode() not in body, (address, body[:2000])
                seen += own.name.encode() in body
            continue
        for device, expected in ((own, 200), (foreign, 404)):
            number = device.pk if "{int:device}" in path or "{device}" in path else ports[device.pk][0]
            if "{int:alarm}" in path:
                number = Alarm.objects.filter(device=device).values_list("pk", flat=True).first()
            if "{int:path}" in path:
                number = Path.objects.filter(to_site=device.site).values_list("pk", flat=True).first()
            if "{int:move}" in path:
                number = Move.objects.filter(site=device.site).values_list("pk", flat=True).first()
            if any(part in path for part in ("{int:profile}", "{int:poll}")):
                continue
            address = call_path(path, number) + (
                "?at=" + timezone.now().isoformat().replace("+00:00", "Z") if "calculation" in path else ""
            )
            told = Client().get(address, **everybody)
            got = Client().get(address, **limited)
            if expected == 200:
                assert got.status_code == told.status_code == 200, (address, got.content)
            else:
                body = got.getvalue() if got.streaming else got.content
                assert got.status_code == 404 or not any(name.encode() in body for name in FOREIGN), (
                    address,
                    body[:800],
                )
                assert got.status_code in (404, 200) and (got.status_code == 404 or is_empty(got)), (
                    address,
                    body[:800],
                )
    assert seen >= 6, "what they may see they do see"


def is_empty(answer):
    body = answer.getvalue() if answer.streaming else answer.content
    told = body.decode()
    return told in ("[]", "{}") or told.count("\n") <= 1


def call_path(path, number):
    path = path.replace("{int:", "{")
    begin, _, rest = path.partition("{")
    return f"/api/v1/{begin}{number}{rest.partition('}')[2]}"


def test_who_is_limited_changes_nothing_else(two_sites):
    own, foreign = two_sites
    limited = person("limited", Role.ENGINEER, ["Hexwater"])

    def change(device, **told):
        told = {"edition": device.edition, **told}
        return Client().patch(f"/api/v1/devices/{device.pk}", told, "application/json", **limited)

    assert change(foreign, name="mine").status_code == 404
    assert change(own, name="hex-wan-9").status_code == 200
    own.refresh_from_db()
    away = change(own, site="Saltby")
    assert away.status_code in (403, 422), away.content
    assert Device.objects.get(pk=own.pk).site.name == "Hexwater"
    port = foreign.interfaces.first()
    assert (
        Client()
        .put(f"/api/v1/interfaces/{port.pk}/speed", {"in_bps": 10**6}, "application/json", **limited)
        .status_code
        == 404
    )
    assert Client().delete(f"/api/v1/devices/{foreign.pk}", **limited).status_code == 404
    assert Interface.objects.get(pk=port.pk).in_override_bps is None


def test_the_connection_is_everybodys_again_afterwards(two_sites):
    limited = person("limited", Role.VIEWER, ["Hexwater"])
    assert Client().get("/api/v1/devices", **limited).json()["total"] == 1
    with connection.cursor() as cursor:
        cursor.execute("SELECT current_user, current_setting('lumtar.sites', true)")
        user, sites = cursor.fetchone()
    assert user != "lumtar_limited" and not sites
    assert Device.objects.count() == 2


@pytest.mark.parametrize(
    ("table", "columns"),
    [("inventory_credential", "sealed"), ("calling_address", "sealed"), ("calling_destinations", "ranges")],
)
def test_what_nobody_named_is_closed_and_so_are_secrets(two_sites, table, columns):
    """What is added later is not seen by people who are limited until somebody says for which rows."""
    from lumtar.server.database import actor

    actor.begin(actor.Actor(limits={"lumtar.sites": "1"}))
    try:
        with (
            pytest.raises(Exception, match=f"permission denied for table {table}"),
            connection.cursor() as cursor,
        ):
            cursor.execute(f"SELECT {columns} FROM {table}")
    finally:
        connection.needs_rollback = False
        actor.ACTOR.set(None)


def test_who_is_limited_sees_and_ends_what_others_were_called_for(two_sites):
    """Of those who are called there are addresses with secrets, which whoever is limited may not read."""
    own, foreign = two_sites
    limited = person("limited", Role.ENGINEER, ["Hexwater"])
    rule, plan = Rule.objects.get(name="Reachability"), plan_for("duty@oskelund.example")
    Rule.objects.filter(pk=rule.pk).update(plan=plan)
    apply([transition(each, Severity.CRITICAL, "silent", rule=rule, plan=plan) for each in two_sites])
    mine, other = (Alarm.objects.get(device=each, rule=rule, is_cleared=False) for each in (own, foreign))

    def act(alarm, kind):
        body = {"alarms": [alarm.pk], "kind": kind, "text": "the cable is back"}
        return Client().post("/api/v1/alarms/actions", body, "application/json", **limited)

    assert act(other, "close").status_code == 422 and not AlarmAction.objects.exists()
    assert act(mine, "acknowledge").json() == act(mine, "close").json() == {"alarms": 1}
    assert Call.objects.get(alarm=mine).next_at is None
    shown = Client().get(f"/api/v1/alarms/{mine.pk}", **limited).json()
    assert [(each["contact"], each["severity"]) for each in shown["notifications"]] == [("duty@oskelund.example", 5)]
    assert Client().post(f"/api/v1/devices/{own.pk}/retire", **limited).status_code == 200
    assert Alarm.objects.get(pk=mine.pk).is_cleared and not Call.objects.filter(alarm=mine).exists()
    assert not Alarm.objects.get(pk=other.pk).is_cleared
    assert Client().post(f"/api/v1/devices/{own.pk}/restore", **limited).status_code == 200
    level = {"severity": 4, "limit": 10, "clear": 5}
    body = {"name": "Try", "measure": "load", "levels": [level], "days": 1, "plan_id": plan.pk}
    tried = Client().post("/api/v1/rules/rehearsal", body, "application/json", **limited)
    assert tried.status_code == 200 and tried.json()["subjects"] == own.interfaces.count()
    assert "sal-acc-1" not in str(tried.json())


class TestTokens:
    def make(self, who, **told):
        return who.post("/api/v1/tokens", {"name": "script", "role": "viewer", **told}, "application/json")

    @pytest.fixture
    def anna(self, client):
        return client

    def test_a_token_is_named_ends_and_is_revoked(self, anna, user):
        made = self.make(anna, days=30).json()
        who = {"HTTP_AUTHORIZATION": f"Bearer {made['secret']}"}
        assert Client().get("/api/v1/devices", **who).status_code == 200
        (listed,) = anna.get("/api/v1/tokens").json()
        assert listed["name"] == "script" and listed["used_at"] and listed["used_from"] == "127.0.0.1"
        assert "secret" not in listed and made["secret"] not in str(listed)
        assert Client().delete("/api/v1/devices/1", **who).status_code == 403, "it may what its role says"
        ApiToken.objects.update(expires_at=timezone.now() - timedelta(seconds=1))
        assert Client().get("/api/v1/devices", **who).status_code == 401
        ApiToken.objects.update(expires_at=None)
        assert Client().get("/api/v1/devices", **who).status_code == 200
        assert anna.delete(f"/api/v1/tokens/{listed['id']}").status_code == 204
        assert Client().get("/api/v1/devices", **who).status_code == 401

    def test_a_token_may_no_more_than_its_owner_and_makes_no_other(self, anna):
        services.create_person("bert", PASSWORD, Wanted(Role.OPERATOR), "the test")
        bert = Client()
        bert.force_login(User.objects.get(username="bert"))
        assert self.make(bert, role="engineer").status_code == 422
        secret = self.make(bert, role="operator").json()["secret"]
        who = {"HTTP_AUTHORIZATION": f"Bearer {secret}"}
        more = Client().post("/api/v1/tokens", {"name": "x"}, "application/json", **who)
        assert more.status_code == 403 and "sign in" in more.json()["detail"]
        Account.objects.filter(user__username="bert").update(role="viewer")
        assert Client().post("/api/v1/live", {}, "application/json", **who).status_code == 403
        foreign = self.make(anna).json()["token"]["id"]
        assert bert.delete(f"/api/v1/tokens/{foreign}").status_code == 404
        assert [each["user"] for each in bert.get("/api/v1/tokens").json()] == ["bert"]

    @pytest.mark.parametrize(("told", "words"), [({"name": " "}, "1 to 80"), ({"days": 0}, "1 to 3,650")])
    def test_what_is_no_token_is_refused_in_words(self, anna, told, words):
        answer = self.make(anna, **told)
        assert answer.status_code == 422 and words in answer.json()["detail"]


class TestPeople:
    def put(self, client, user, **told):
        account = Account.objects.filter(user_id=user).first()
        whole = {"role": "administrator", "edition": account.edition if account else 1, **told}
        return client.put(f"/api/v1/people/{user}", whole, "application/json")

    def test_somebody_is_made_changed_barred_and_deleted(self, client, user):
        Site.objects.create(name="Hexwater")
        made = client.post(
            "/api/v1/people",
            {
                "name": "bert",
                "password": PASSWORD,
                "role": "operator",
                "sites": ["Hexwater"],
                "email": "bert@oskelund.example",
            },
            "application/json",
        )
        assert made.status_code == 201, made.content
        number = made.json()["id"]
        bert = Client()
        bert.force_login(User.objects.get(pk=number))
        services.note_session(bert.session.session_key, User.objects.get(pk=number), "127.0.0.1", "")
        assert bert.get("/api/v1/session").json() | {"first_run": 0} == {
            "user": "bert", "role": "operator", "limited": True, "first_run": 0,
        }  # fmt: skip
        assert bert.get("/api/v1/people").status_code == 403
        changed = self.put(client, number, role="engineer")
        assert changed.json()["role"] == "engineer" and changed.json()["sites"] == []
        stale = client.put(f"/api/v1/people/{number}", {"role": "viewer", "edition": 1}, "application/json")
        assert stale.status_code == 409 and "anna changed this meanwhile" in stale.json()["detail"]
        assert self.put(client, number, role="engineer", active=False).json()["active"] is False
        assert bert.get("/api/v1/now").status_code == 401
        assert client.delete(f"/api/v1/people/{number}").status_code == 204
        assert not User.objects.filter(pk=number).exists()

    def test_the_last_administrator_stays(self, client, user):
        for told in ({"role": "viewer"}, {"active": False}):
            answer = self.put(client, user.pk, **told)
            assert answer.status_code == 422 and "Nobody else is an administrator" in answer.json()["detail"]
        assert client.delete(f"/api/v1/people/{user.pk}").status_code == 409

    @pytest.mark.parametrize(
        "password",
        [
            "short",
            "password123",
            "adminadmin",
            "aaaaaaaaaaaa",
            "lumtarlumtar",
            "lumtar-admin-2026",
            "1234567890",
            "anna-anna",
        ],
    )
    def test_a_password_that_is_guessed_first_is_refused(self, client, password):
        answer = client.post("/api/v1/people", {"name": "anna2", "password": password}, "application/json")
        assert answer.status_code == 422, password

    def test_ones_own_password_is_changed_with_the_old_one_and_ends_other_sessions(self, user):
        here, there = Client(), Client()
        for each in (here, there):
            assert (
                each.post(
                    "/api/v1/session", {"name": "anna", "password": "a-good-long-word"}, "application/json"
                ).status_code
                == 200
            )
        assert len(here.get("/api/v1/sessions").json()) == 2
        wrong = here.put("/api/v1/session/password", {"old": "x", "new": PASSWORD}, "application/json")
        assert wrong.status_code == 422 and "not your password now" in wrong.json()["detail"]
        right = here.put("/api/v1/session/password", {"old": "a-good-long-word", "new": PASSWORD}, "application/json")
        assert right.json()["user"] == "anna"
        assert here.get("/api/v1/now").status_code == 200
        assert there.get("/api/v1/now").status_code == 401
        assert [each["here"] for each in here.get("/api/v1/sessions").json()] == [True]

    def test_a_session_is_ended_from_another_one(self, user):
        here, there = Client(), Client()
        for each in (here, there):
            each.post("/api/v1/session", {"name": "anna", "password": "a-good-long-word"}, "application/json")
        other = next(each for each in here.get("/api/v1/sessions").json() if not each["here"])
        assert there.session.session_key not in str(other)
        assert here.delete(f"/api/v1/sessions/{other['id']}").status_code == 204
        assert there.get("/api/v1/now").status_code == 401 and here.get("/api/v1/now").status_code == 200


class TestAudit:
    def test_who_changed_what_from_what_to_what(self, client, two_sites):
        own, _ = two_sites
        client.patch(f"/api/v1/devices/{own.pk}", {"edition": own.edition, "name": "hex-wan-9"}, "application/json")
        told = client.get("/api/v1/audit?words=hex-wan-9").json()
        (entry,) = told["rows"]
        assert (entry["by"], entry["via"], entry["status"]) == ("anna", "session", 200)
        change = next(each for each in entry["changes"] if each["what"] == "device")
        assert (change["before"]["name"], change["after"]["name"]) == ("hex-wan-1", "hex-wan-9")

    def test_secrets_are_never_in_it(self, client):
        for path, told in (
            ("credentials", {"name": "Core", "kind": "v2c", "secret": {"community": "very-secret-word"}}),
            ("people", {"name": "bert", "password": PASSWORD}),
            ("tokens", {"name": "script"}),
        ):
            assert client.post(f"/api/v1/{path}", told, "application/json").status_code == 201
        rows = [*AuditEntry.objects.values(), *AuditChange.objects.values()]
        text = str(rows)
        assert (
            "very-secret-word" not in text
            and PASSWORD not in text
            and "md5$" not in text
            and "argon2" not in text
            and "gAAAA" not in text
        )
        assert AuditChange.objects.get(table="inventory_credential").after["sealed"] == "(another secret)"

    def test_a_refused_write_is_in_it_and_a_read_is_not(self, client):
        before = AuditEntry.objects.count()
        client.get("/api/v1/devices")
        assert AuditEntry.objects.count() == before
        client.delete("/api/v1/devices/999999")
        assert AuditEntry.objects.latest("pk").status == 404
        Client().post("/api/v1/session", {"name": "anna", "password": "wrong"}, "application/json")
        entry = AuditEntry.objects.latest("pk")
        assert (entry.status, entry.by, entry.via) == (401, "anna", "")
        Client().post("/api/v1/session", {"name": "my-password-here", "password": "x"}, "application/json")
        assert AuditEntry.objects.latest("pk").by == "", "what is no name may be a password"

    def test_what_lumtar_does_itself_is_not_in_it(self, two_sites):
        before = AuditChange.objects.count()
        Device.objects.update(sys_name="x", name="y")
        assert AuditChange.objects.count() == before
