"""What gets in and what does not: hosts, foreign pages, proxies, guesses, bodies, and values that nobody means."""

import json
import threading
import time

import pytest
from django.contrib.auth.models import User
from django.test import Client

from lumtar.domain.accounts.services import new_token
from lumtar.server import limiting
from tests.network import fill

SIGN_IN = "/api/v1/session"
GOOD = {"name": "anna", "password": "a-good-long-word"}


@pytest.fixture(autouse=True)
def fresh():
    for limit in limiting.EVERY_LIMIT:
        limit.forget()


def is_problem(answer, status, words):
    assert answer.status_code == status, (answer.status_code, answer.content)
    assert answer.headers["Content-Type"] == "application/problem+json" and words in answer.json()["detail"], (
        answer.json()
    )
    return True


class TestForeignPages:
    def test_a_name_that_is_not_ours_is_refused(self, user):
        is_problem(Client().get("/api/v1/session", headers={"host": "rebound.example"}), 400, "LUMTAR_HOSTS")
        assert Client().get("/", headers={"host": "rebound.example"}).status_code == 400
        assert Client().get("/api/v1/session", headers={"host": "localhost:8470"}).status_code == 200

    @pytest.mark.parametrize(
        "headers",
        [
            {"origin": "http://evil.example"},
            {"origin": "null"},
            {"sec-fetch-site": "cross-site"},
            {"referer": "http://evil.example/x"},
        ],
    )
    @pytest.mark.parametrize("path", [SIGN_IN, f"{SIGN_IN}/first-run"])
    def test_nobody_else_signs_a_visitor_in(self, db, path, headers):
        is_problem(Client().post(path, GOOD, "application/json", headers=headers), 403, "another site")
        assert not User.objects.exists()

    @pytest.mark.parametrize("kind", ["text/plain", "application/x-www-form-urlencoded"])
    def test_what_a_form_can_send_is_not_taken(self, db, kind):
        is_problem(Client().post(f"{SIGN_IN}/first-run", json.dumps(GOOD), kind), 415, "application/json")
        assert not User.objects.exists()

    def test_ones_own_page_may(self, user):
        own = {"origin": "http://testserver", "host": "testserver"}
        assert Client().post(SIGN_IN, GOOD, "application/json", headers=own).status_code == 200

    def test_behind_tls_cookies_are_secure_and_stay_so(self, user):
        answer = Client().post(SIGN_IN, GOOD, "application/json", secure=True)
        assert answer.cookies["lumtar_session"]["secure"] and answer.cookies["lumtar_session"]["httponly"]
        assert "max-age=31536000" in answer.headers["Strict-Transport-Security"]
        plain = Client().post(SIGN_IN, GOOD, "application/json")
        assert not plain.cookies["lumtar_session"]["secure"] and "Strict-Transport-Security" not in plain.headers


class TestGuessing:
    def test_a_forged_address_does_not_defeat_the_lockout(self, user):
        for number in range(10):
            forged = {"x-forwarded-for": f"203.0.113.{number}"}
            Client().post(SIGN_IN, {**GOOD, "password": "no"}, "application/json", headers=forged)
        is_problem(
            Client().post(SIGN_IN, GOOD, "application/json", headers={"x-forwarded-for": "198.51.100.9"}),
            403,
            "Too many",
        )

    def test_many_names_from_one_address_are_too_many(self, user):
        answers = [
            Client().post(SIGN_IN, {"name": f"name-{number}", "password": "no"}, "application/json")
            for number in range(31)
        ]
        assert [answer.status_code for answer in answers[:30]] == [401] * 30
        assert is_problem(answers[30], 429, "from this address") and int(answers[30].headers["Retry-After"]) > 0

    def test_one_name_from_many_addresses_is_too_often(self, user):
        for number in range(20):
            Client(REMOTE_ADDR=f"127.0.1.{number}").post(SIGN_IN, {**GOOD, "password": "no"}, "application/json")
        is_problem(Client(REMOTE_ADDR="127.0.2.1").post(SIGN_IN, GOOD, "application/json"), 429, "with this name")

    def test_no_more_than_two_passwords_are_looked_at_at_once(self, monkeypatch):
        room = limiting.Room(2, 0.05, "Wait.")
        inside, most = [], []

        def come():
            try:
                with room.taken():
                    inside.append(1)
                    most.append(len(inside))
                    time.sleep(0.3)
                    inside.pop()
            except limiting.TooOften:
                most.append(-1)

        threads = [threading.Thread(target=come) for _ in range(12)]
        for each in threads:
            each.start()
        for each in threads:
            each.join()
        assert max(most) == 2 and most.count(-1) == 10


class TestValues:
    @pytest.fixture
    def known(self, db):
        fill(0.2)
        user = User.objects.create_superuser("anna", password="a-good-long-word")
        return {"HTTP_AUTHORIZATION": f"Bearer {new_token(user)}"}

    @pytest.mark.parametrize(
        ("method", "path", "told"),
        [
            ("GET", "interfaces?words=%00", None),
            ("GET", "interfaces?words=" + "x" * 30_000, None),
            ("GET", "logbook?start=0001-01-01T00:00:00Z", None),
            ("GET", "logbook?end=9999-12-31T23:59:59-14:00", None),
            ("GET", "interfaces/99999999999999999999999", None),
            ("GET", "devices/99999999999999999999999", None),
            ("GET", "devices?cursor=%F0%9F%92%A9", None),
            ("POST", "ownfields", {"name": "a\0b"}),
            ("POST", "ownfields", {"name": "x" * 5000}),
            ("POST", "groups", {"name": "x" * 300}),
            ("POST", "credentials", {"name": "x", "secret": {"community": "a\0"}}),
            ("PATCH", "rules/1", {"levels": [{"severity": 4, "limit": "Infinity", "clear": 1}]}),
            ("PATCH", "rules/1", {"levels": [{"severity": 4, "limit": 1e308, "clear": 1}], "times": 10**30}),
            ("PUT", "interfaces/1/speed", {"in_bps": 2**63}),
        ],
    )
    def test_what_nobody_means_is_refused_in_words(self, known, method, path, told):
        body = b"" if told is None else json.dumps(told).encode()
        answer = Client().generic(method, f"/api/v1/{path}", body, "application/json", **known)
        assert 400 <= answer.status_code < 500, (answer.status_code, answer.content)
        assert answer.headers["Content-Type"] == "application/problem+json" and answer.json()["detail"]

    @pytest.mark.parametrize(
        "body", [b'{"name": "\\ud800"}', b'{"name": NaN}', b"[" * 5000, b"\xff\xfe", b'{"a":' * 60 + b"1" + b"}" * 60]
    )
    def test_what_is_not_json_is_refused(self, known, body):
        answer = Client().post("/api/v1/ownfields", body, "application/json", **known)
        assert answer.status_code in (400, 422) and answer.json()["detail"]

    def test_a_zero_in_an_address_is_nowhere(self, known):
        assert Client().get("/api/v1/devices/%00", **known).status_code == 404

    def test_a_cell_that_is_a_formula_is_none_in_an_export(self, known):
        from lumtar.domain.inventory.models import Device

        Device.objects.filter(name="hex-wan-1").update(name="=cmd|x", location="+1")
        for path in ("catalogue.csv", "devices.csv"):
            lines = Client().get(f"/api/v1/{path}", **known).getvalue().decode()
            assert "'=cmd|x" in lines and ",=cmd" not in lines and "\n=cmd" not in lines


class TestRanges:
    @pytest.mark.parametrize(
        ("ranges", "words"),
        [("all", "is not a range"), ("10.0.0.0/33", "is not a range"), ("1.1.1.1 " * 300, "at most 200")],
    )
    def test_what_is_no_range_is_refused(self, client, ranges, words):
        told = {"name": "Core", "secret": {"community": "word"}, "ranges": ranges}
        is_problem(client.post("/api/v1/credentials", told, "application/json"), 422, words)
