"""Getting devices in through the API: trying, adding one, adding many, and what goes wrong on the way."""

import http.client
import json
import socket
import time
from urllib.parse import urlsplit

import pytest
from django.contrib.auth.models import User
from django.test import Client

from bench.ports import free_port
from lumtar.domain.accounts.services import new_token
from lumtar.domain.inventory.credentials import create
from lumtar.domain.inventory.models import Credential, Device, OwnField
from lumtar.domain.logbook.models import Entry
from lumtar.wire import usm
from tests.lab.boxes import COMMUNITY
from tests.server.calls import get, is_problem
from tests.standins import standing_in

pytestmark = pytest.mark.django_db(transaction=True)
USER = usm.User("anna", usm.AuthProtocol.SHA256, "authenticate-me", usm.PrivProtocol.AES256, "keep-it-private")
SECRET = {
    "user": "anna",
    "auth": "sha256",
    "auth_password": "authenticate-me",
    "priv": "aes256",
    "priv_password": "keep-it-private",
}


@pytest.fixture
def client(transactional_db):
    made = Client()
    made.force_login(User.objects.create_superuser("anna"))
    return made


@pytest.fixture
def call(client, address):
    """A call to the real server, since streams only stream there."""
    token = new_token(User.objects.get())

    def ask(path, body):
        line = http.client.HTTPConnection(urlsplit(address).netloc, timeout=30)
        raw = body if isinstance(body, bytes) else json.dumps(body).encode()
        headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/json"}
        line.request("POST", f"/api/v1/{path}", raw, headers)
        answer = line.getresponse()
        assert answer.status == 200, answer.read()
        return [json.loads(each) for each in answer if each.strip()]

    return ask


def put(client, path, body):
    return client.put(f"/api/v1/{path}", body, "application/json")


def post(client, path, body):
    return client.post(f"/api/v1/{path}", body, "application/json")


class TestCredentials:
    def test_they_are_made_listed_changed_and_deleted_without_ever_being_told(self, client):
        made = post(client, "credentials", {"name": "Core", "kind": "v3", "secret": SECRET})
        assert made.status_code == 201
        row = made.json()
        assert (row["user"], row["auth"], row["priv"], row["advice"]) == ("anna", "sha256", "aes256", [])
        told = {"name": "Core", "kind": "v3", "secret": {"priv_password": "another-word"}, "edition": 1}
        assert put(client, f"credentials/{row['id']}", told).json()["edition"] == 2
        stale = put(client, f"credentials/{row['id']}", told)
        assert is_problem(stale, 409, "anna changed this meanwhile")
        everything = client.get("/api/v1/credentials").content + client.get("/api/v1/logbook").content
        for secret in (b"authenticate-me", b"keep-it-private", b"another-word"):
            assert secret not in everything
        assert client.delete(f"/api/v1/credentials/{row['id']}").status_code == 204
        assert is_problem(client.delete(f"/api/v1/credentials/{row['id']}"), 404, "nothing with that number")

    def test_what_is_wrong_is_said(self, client):
        wrong = post(client, "credentials", {"name": "x", "kind": "v3", "secret": {**SECRET, "auth": "rot13"}})
        assert is_problem(wrong, 422, "'rot13' is not known here")
        assert is_problem(put(client, "credentials/order", {"ids": [7]}), 409, "no credential 7")
        assert is_problem(put(client, "credentials/7", {"name": "x", "edition": 1}), 404, "nothing with that number")

    def test_the_order_of_trying(self, client):
        ids = [create(name, "v2c", {"community": name}).pk for name in ("first", "second")]
        rows = put(client, "credentials/order", {"ids": ids[::-1]}).json()["rows"]
        assert [row["name"] for row in rows] == ["second", "first"]


class TestTrying:
    def test_every_step_is_told_and_what_it_is(self, call, loopback):
        host, port = next(loopback), free_port()
        create("Wrong word", "v2c", {"community": "not-this-one"})
        create("Nobody", "v3", {**SECRET, "user": "nobody"})
        create("Right", "v2c", {"community": COMMUNITY})
        with standing_in(port, host):
            lines = call("devices/try", {"address": host, "port": port, "tcp_port": port})
        steps = {line["step"]["title"]: line["step"] for line in lines if "step" in line}
        assert steps["ICMP echo"]["went"] == "well"
        assert "TCP port" in steps[f"TCP {port}"]["words"] and "closed" in steps[f"TCP {port}"]["words"]
        assert "a wrong community looks the same" in steps["Wrong word"]["words"]
        assert "no answer" in steps["Nobody"]["words"]
        assert "answers, up " in steps["Right"]["words"]
        assert "3 interfaces" in steps["what it is"]["words"]
        assert all(step["took_ms"] >= 0 for step in steps.values())
        outcome = lines[-1]["outcome"]
        assert (outcome["ways"], outcome["credential_name"]) == (["snmp", "icmp"], "Right")
        assert lines[-1]["known"] == ""

    def test_version_3_is_preferred_in_words(self, call, loopback):
        host, port = next(loopback), free_port()
        with standing_in(port, host, user=USER):
            wrong = {"address": host, "port": port, "credentials": [], "kind": "v3"}
            lines = call("devices/try", {**wrong, "secret": {**SECRET, "auth_password": "something-else"}})
            assert any("rejected the user's authentication key" in line["step"]["words"] for line in lines[:-1])
            right = call("devices/try", {**wrong, "secret": SECRET})
        assert right[-1]["outcome"]["ways"][0] == "snmp"

    def test_a_name_that_is_not_known(self, call):
        lines = call("devices/try", {"address": "no-such-host.invalid", "credentials": []})
        assert "'no-such-host.invalid' is not known here" in lines[0]["step"]["words"]
        assert lines[-1]["outcome"]["ways"] == []

    def test_what_makes_no_sense_is_said_before_anything_is_sent(self, client):
        assert is_problem(post(client, "devices/try", {"address": "10.0.0.0/8"}), 422, "a range")
        assert is_problem(post(client, "devices/try", {"address": "127.0.0.1", "tcp_port": 0}), 422, "between 1 and")
        bad = {"address": "127.0.0.1", "kind": "v9", "secret": {"community": "x"}}
        assert is_problem(post(client, "devices/try", bad), 422, "The kind is")


class TestMany:
    def test_the_good_ones_are_added_and_the_others_keep_their_reason(self, call, client, loopback):
        hosts, port = [next(loopback) for _ in range(4)], free_port()
        create("Right", "v2c", {"community": COMMUNITY})
        create("Wrong", "v2c", {"community": "not-this-one"})
        text = "address,port,name,credential,way\n" + "\n".join(
            [
                f"{hosts[0]},{port},,,",
                f"{hosts[1]},{port},named-here,Right,",
                f"{hosts[2]},{port},,Wrong,",
                f"{hosts[3]},{port},,,",
                f"{hosts[3]},{port},only-echo,,icmp",
            ]
        )
        listed = client.post("/api/v1/devices/list", text, "text/csv").json()
        assert [line["problem"] for line in listed["lines"]] == [""] * 5
        with standing_in(port, *hosts[:3]):
            results = {
                line["number"]: line for line in call("devices/list/add", {"lines": listed["lines"], "site": "Saltby"})
            }
            again = call("devices/list/add", {"lines": listed["lines"]})
        assert {number: line["went"] for number, line in results.items()} == {
            2: "added",
            3: "added",
            4: "wrong",
            5: "wrong",
            6: "added",
        }
        assert "answers ICMP, not SNMP: no answer" in results[4]["words"] and "closed" in results[5]["words"]
        assert set(Device.objects.values_list("name", "way", "site__name")) == {
            (f"tst-acc-{hosts[0].rsplit('.', 1)[-1]}", "snmp", "Saltby"),
            ("named-here", "snmp", "Saltby"),
            ("only-echo", "icmp", "Saltby"),
        }
        assert sorted(line["went"] for line in again) == ["known"] * 3 + ["wrong"] * 2
        assert Device.objects.count() == 3
        known = client.post("/api/v1/devices/list", text, "text/csv").json()["lines"]
        assert [line["known"] for line in known][1] == "named-here"

    def test_trying_alone_adds_nothing(self, call, client, loopback):
        host, port = next(loopback), free_port()
        create("Right", "v2c", {"community": COMMUNITY})
        lines = client.post("/api/v1/devices/list", f"address,port\n{host},{port}", "text/csv").json()["lines"]
        with standing_in(port, host):
            assert call("devices/list/add", {"lines": lines, "add": False})[0]["went"] == "answers"
        assert not Device.objects.exists()

    def test_lines_that_nobody_checked_before_are_checked_all_the_same(self, call, client):
        lines = [{"number": 1, "address": "127.0.0.1", "port": 99999}, {"number": 2, "address": "a b"}]
        results = {line["number"]: line for line in call("devices/list/add", {"lines": lines})}
        assert "between 1 and 65535" in results[1]["words"] and "without blanks" in results[2]["words"]
        many = [{"number": n, "address": "127.0.0.1"} for n in range(5001)]
        assert is_problem(post(client, "devices/list/add", {"lines": many}), 422, "at most 5000")

    def test_the_export_is_the_list_again(self, client):
        OwnField.objects.create(name="Rack")
        credential = create("Right", "v2c", {"community": COMMUNITY})
        told = {"address": "127.0.0.1", "name": "a, b", "credential": credential.pk, "tags": {"owner": "it"}}
        assert post(client, "devices", {**told, "groups": ["WAN"], "own": {"Rack": "R4"}}).status_code == 201
        exported = b"".join(client.get("/api/v1/devices.csv").streaming_content)
        assert COMMUNITY.encode() not in exported
        line = client.post("/api/v1/devices/list", exported, "text/csv").json()["lines"][0]
        assert (line["name"], line["known"], line["own"], line["groups"]) == ("a, b", "a, b", {"Rack": "R4"}, ["WAN"])

    def test_too_much_at_once_is_said(self, client):
        big = b"127.0.0.1\n" * ((11 << 20) // 10)
        assert is_problem(client.post("/api/v1/devices/list", big, "text/csv"), 413, "at most")
        many = b"".join(b"127.0.%d.%d\n" % (n // 250, n % 250) for n in range(6000))
        assert "at most 5,000" in client.post("/api/v1/devices/list", many, "text/csv").json()["problem"]

    def test_somebody_who_stops_it_stops_it(self, client, address, loopback):
        """Silent addresses take seconds each; after the reader went away nothing more is added."""
        token = new_token(User.objects.get())
        create("Right", "v2c", {"community": COMMUNITY})
        line = http.client.HTTPConnection(urlsplit(address).netloc, timeout=30)
        port = free_port()
        holders = [socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(3)]
        hosts = [next(loopback) for _ in holders]
        for holder, host in zip(holders, hosts, strict=True):
            holder.bind((host, port))
        body = json.dumps({"lines": [{"number": n, "address": host, "port": port} for n, host in enumerate(hosts)]})
        headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/json"}
        line.request("POST", "/api/v1/devices/list/add", body, headers)
        time.sleep(0.3)
        line.close()
        with standing_in(free_port(), "127.0.0.1"):
            time.sleep(0.1)
        for holder in holders:
            holder.close()
        with standing_in(port, *hosts):
            time.sleep(2.5)
        assert not Device.objects.exists()


class TestLife:
    @pytest.fixture
    def device(self, client):
        told = {"address": "127.0.0.1", "name": "sal-wan-1", "kind": "v2c", "secret": {"community": "word"}}
        return post(client, "devices", told).json()["id"]

    def test_changing_with_an_old_edition_is_refused(self, client, device):
        change = {"edition": 1, "name": "renamed", "interval_s": 30}
        assert client.patch(f"/api/v1/devices/{device}", change, "application/json").json()["name"] == "renamed"
        again = client.patch(f"/api/v1/devices/{device}", change, "application/json")
        assert is_problem(again, 409, "Nothing of yours is saved")
        told = get(client, f"devices/{device}")
        assert (told["edition"], told["row"]["interval_s"], told["credential"]) == (2, 30, "SNMP v2c")

    def test_retire_restore_delete(self, client, device):
        assert is_problem(client.delete(f"/api/v1/devices/{device}"), 409, "Retire sal-wan-1 first")
        assert is_problem(post(client, f"devices/{device}/restore", {}), 409, "not retired")
        assert post(client, f"devices/{device}/retire", {}).status_code == 200
        assert get(client, "devices")["total"] == 0
        assert get(client, f"devices/{device}")["retired_at"]
        assert post(client, f"devices/{device}/restore", {}).status_code == 200
        assert get(client, "devices")["total"] == 1
        post(client, f"devices/{device}/retire", {})
        assert client.delete(f"/api/v1/devices/{device}").status_code == 204
        assert [entry.by for entry in Entry.objects.filter(kind="user")] == ["anna"] * len(
            Entry.objects.filter(kind="user")
        )

    def test_a_credential_that_is_gone(self, client):
        told = {"address": "127.0.0.1", "credential": 99999}
        assert is_problem(post(client, "devices", told), 422, "no such credential")
        assert not Credential.objects.exists()


class TestCatalogue:
    def test_rows_own_fields_and_csv(self, client):
        made = post(client, "ownfields", {"name": "Rack"})
        assert made.status_code == 201
        told = {"address": "127.0.0.1", "name": "a, b", "way": "icmp", "own": {"Rack": "R4"}, "groups": ["WAN"]}
        assert post(client, "devices", told).status_code == 201
        page = get(client, "catalogue", words="r4", sort="-added")
        assert (page["total"], page["rows"][0]["own"], page["rows"][0]["groups"]) == (1, {"Rack": "R4"}, ["WAN"])
        text = b"".join(client.get("/api/v1/catalogue.csv?sort=name").streaming_content).decode().splitlines()
        assert text[0].endswith(",groups,tags,Rack") and text[1].startswith('"a, b",') and text[1].endswith(",WAN,,R4")
        assert is_problem(client.get("/api/v1/catalogue?sort=colour"), 422, "no order 'colour'")
        assert is_problem(post(client, "ownfields", {"name": "Rack"}), 422, "called Rack already")
        assert client.delete(f"/api/v1/ownfields/{made.json()['id']}").status_code == 204
        assert get(client, "catalogue")["rows"][0]["own"] == {}
