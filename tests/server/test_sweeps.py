"""Sweeps and admission rules through the API."""

import pytest
from django.contrib.auth.models import User
from django.test import Client

from bench.ports import free_port
from lumtar.domain.inventory.credentials import create
from lumtar.domain.inventory.models import Device
from lumtar.domain.sweeps.models import Finding, Run
from tests.lab.boxes import COMMUNITY
from tests.server.calls import get, is_problem
from tests.standins import standing_in
from tests.sweeps import carry_out

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def client(let_go, transactional_db):
    made = Client()
    made.force_login(User.objects.create_superuser("anna"))
    create("County", "v2c", {"community": COMMUNITY})
    return made


def send(client, method, path, body=None):
    return getattr(client, method)(f"/api/v1/{path}", body or {}, "application/json")


SWEEP = {"name": "Depot", "ranges": "10.20.0.0/22", "every_s": 86400}
RULE = {"name": "Ours", "condition": 'sys_name like "tst-*"', "outcome": "add", "site": "Depot"}


def test_the_estimate_objects_before_anything_is_kept(client):
    told = send(client, "post", "sweeps/estimate", SWEEP).json()
    assert (told["addresses"], told["packets"], told["longest_s"]) == (1022, 4, 23.0)
    often = {**SWEEP, "every_s": 300, "per_second": 5}
    assert "longer than the 5 minutes" in send(client, "post", "sweeps/estimate", often).json()["objection"]
    is_problem(send(client, "post", "sweeps", often), 422, "longer than the 5 minutes")
    is_problem(send(client, "post", "sweeps/estimate", {**SWEEP, "ranges": "10.0.0.0/8"}), 422, "16,777,214 addresses")
    assert get(client, "sweeps") == []


def test_a_sweep_is_made_run_decided_on_changed_and_deleted(client, loopback):
    port, places = free_port(), [next(loopback) for _ in range(3)]
    with standing_in(port, *places):
        body = {**SWEEP, "ranges": ", ".join(places), "icmp": False, "port": port, "timeout_s": 0.3, "every_s": 0}
        made = send(client, "post", "sweeps", body).json()
        number = made["id"]
        run = send(client, "post", f"sweeps/{number}/runs").json()
        is_problem(send(client, "post", f"sweeps/{number}/runs"), 409, "runs already")
        carry_out(run["id"])
    listed = get(client, "sweeps")[0]
    assert (listed["run"]["state"], listed["run"]["done"], listed["run"]["counts"]["new"]) == ("done", 3, 3)
    found = get(client, f"sweeps/{number}/findings?state=hold")
    assert found["total"] == 3 and found["states"] == {"new": 3, "known": 0, "changed": 0, "lost": 0, "hold": 3}
    is_problem(client.get(f"/api/v1/sweeps/{number}/findings?state=odd"), 422, "There is no state")
    first, second, _ = (row["id"] for row in found["rows"])
    added = send(client, "post", f"findings/{first}/decision", {"outcome": "add", "site": "Saltby"}).json()
    assert added["device"].startswith("tst-acc-") and added["decided_by"] == "anna"
    assert send(client, "post", f"findings/{second}/decision", {"outcome": "ignore"}).json()["decision"] == "ignore"
    is_problem(send(client, "post", f"findings/{first}/decision", {"outcome": "add"}), 422, "a device already")
    changed = send(client, "put", f"sweeps/{number}", {**body, "name": "Depot 2", "edition": 1}).json()
    assert changed["name"] == "Depot 2"
    is_problem(send(client, "put", f"sweeps/{number}", {**body, "edition": 1}), 409, "anna changed this")
    is_problem(send(client, "post", f"sweeps/{number}/stop"), 409, "does not run")
    assert client.delete(f"/api/v1/sweeps/{number}").status_code == 204
    assert Device.objects.count() == 1 and not Finding.objects.exists() and not Run.objects.exists()


def test_admission_rules_are_tried_on_the_last_results(client):
    made = send(client, "post", "sweeps", SWEEP).json()
    Finding.objects.create(sweep_id=made["id"], address="10.20.0.9", reasons={"10.20.0.9": ""}, sys_name="tst-acc-9")
    tried = send(client, "post", "admissionrules/try", RULE).json()
    assert tried["counts"] == {"add": 1, "hold": 0, "ignore": 0}
    assert tried["rows"][0]["rule"] == "Ours"
    assert get(client, "admissionrules/dryrun")["counts"]["hold"] == 1
    kept = send(client, "post", "admissionrules", RULE).json()
    other = send(client, "post", "admissionrules", {"name": "Rest", "outcome": "ignore"}).json()
    assert get(client, "admissionrules/dryrun")["counts"]["add"] == 1
    ordered = send(client, "put", "admissionrules/order", {"ids": [other["id"], kept["id"]]}).json()
    assert [row["name"] for row in ordered["rows"]] == ["Rest", "Ours"]
    assert get(client, "admissionrules/dryrun")["counts"]["ignore"] == 1
    changed = send(client, "put", f"admissionrules/{kept['id']}", {**RULE, "outcome": "hold", "edition": 1}).json()
    assert changed["outcome"] == "hold" and changed["site"] == "Depot"
    is_problem(send(client, "post", "admissionrules/try", {**RULE, "condition": "x"}), 422, "is no field")
    assert client.delete(f"/api/v1/admissionrules/{kept['id']}").status_code == 204
