"""Profiles and labels through the API."""

import pytest
from django.contrib.auth.models import User
from django.test import Client

from bench.ports import free_port
from lumtar.domain.inventory.models import Device, Interface, LabelRule, Profile
from lumtar.domain.inventory.services import add_device
from tests.lab.boxes import COMMUNITY
from tests.server.calls import get, is_problem
from tests.standins import standing_in

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def client(transactional_db):
    LabelRule.objects.all().delete()
    Profile.objects.all().delete()
    made = Client()
    made.force_login(User.objects.create_superuser("anna"))
    return made


@pytest.fixture
def switch(client):
    made = add_device("127.0.0.9", port=1161, name="alw-acc-1", kind="v2c", secret={"community": COMMUNITY})
    Device.objects.update(sys_descr="an access switch", sys_object_id="1.3.6.1.4.1.32473.1.12")
    Interface.objects.bulk_create(
        Interface(device=made, if_index=n, name=f"g{n}", alias=alias, label=alias or f"g{n}", if_type=6)
        for n, alias in enumerate(("Reading room", "Reading room", "Uplink"), 1)
    )
    return made


def send(client, method, path, body=None):
    return getattr(client, method)(f"/api/v1/{path}", body or {}, "application/json")


RULE = {"name": "Uplinks", "condition": 'label like "uplink*"', "role": "uplink"}
PROFILE = {"name": "Switches", "kind": "switch", "prefixes": ["1.3.6.1.4.1.32473.1"]}


def test_a_label_rule_is_tried_made_changed_ordered_and_deleted(client, switch):
    tried = send(client, "post", "labelrules/try", RULE).json()
    assert (tried["matched"], tried["changed"]) == (1, 1)
    assert tried["examples"] == [
        {"device": "alw-acc-1", "label": "Uplink", "label_then": "Uplink", "role_then": "uplink"}
    ]
    made = send(client, "post", "labelrules", RULE)
    assert made.status_code == 201 and made.json()["changed_by"] == "anna"
    second = send(client, "post", "labelrules", {"name": "Rest", "role": "access"}).json()
    number = made.json()["id"]
    changed = send(client, "put", f"labelrules/{number}", {**RULE, "name": "Up", "edition": 1})
    assert changed.json()["name"] == "Up"
    is_problem(send(client, "put", f"labelrules/{number}", {**RULE, "edition": 1}), 409, "anna changed this meanwhile")
    ordered = send(client, "put", "labelrules/order", {"ids": [second["id"], number]}).json()
    assert [row["name"] for row in ordered["rows"]] == ["Rest", "Up"]
    assert {field["name"]: field["verbs"] for field in ordered["fields"]}["label"] == ["is", "like"]
    assert client.delete(f"/api/v1/labelrules/{number}").status_code == 204
    assert [rule.name for rule in LabelRule.objects.all()] == ["Rest"]


def test_wrong_rules_and_profiles_are_answered_in_words(client, switch):
    is_problem(send(client, "post", "labelrules", {**RULE, "condition": "label ="}), 422, "It ends where a value")
    is_problem(send(client, "post", "labelrules/try", {**RULE, "role": ""}), 422, "decides nothing yet")
    is_problem(send(client, "post", "profiles", {**PROFILE, "interval_s": 3}), 422, "The interval must be")
    is_problem(send(client, "post", "profiles/fitting", {**PROFILE, "condition": "x"}), 422, "is no field")
    is_problem(client.get("/api/v1/devices/999/labels"), 404, "nothing")
    is_problem(client.get(f"/api/v1/devices/{switch.pk}/labels?template=x"), 422, "A template holds")


def test_label_sources_stand_side_by_side_for_real_ports(client, switch):
    seen = get(client, f"devices/{switch.pk}/labels")
    assert seen["in_force"] == "{alias|name|descr|index}" and seen["ports"] == 3
    best = seen["candidates"][0]
    assert (best["template"], best["apart"]) == ("{name} {alias}", 3)
    assert best["labels"] == ["g1 Reading room", "g2 Reading room", "g3 Uplink"]
    assert {c["template"]: c["apart"] for c in seen["candidates"]}[seen["in_force"]] == 1
    answer = send(client, "patch", f"devices/{switch.pk}", {"edition": 1, "label_template": "{name} {alias}"})
    assert answer.status_code == 200
    assert get(client, f"devices/{switch.pk}/labels")["template"] == "{name} {alias}"
    assert get(client, f"devices/{switch.pk}")["label_template"] == "{name} {alias}"
    assert get(client, "interfaces")["rows"][0]["label"] == "g1 Reading room"


def test_who_decided_what_is_told_and_overruled(client, switch):
    send(client, "post", "labelrules", RULE)
    port = Interface.objects.get(alias="Uplink").pk
    told = get(client, f"interfaces/{port}/decided")
    assert (told["role"], told["role_by"], told["own_role"]) == ("uplink", "the rule “Uplinks”", None)
    told = send(client, "put", f"interfaces/{port}/decided", {"role": "wan", "tags": {"line": "A"}}).json()
    assert (told["role"], told["role_by"], told["tags"]) == ("wan", "somebody, for this port", {"line": "A"})
    assert get(client, "interfaces?words=wan")["rows"][0]["role"] == "wan"
    is_problem(send(client, "put", f"interfaces/{port}/decided", {"role": "boss"}), 422, "A role is one of")


def test_a_profile_is_tried_made_and_changed(client, switch):
    fitting = send(client, "post", "profiles/fitting", PROFILE).json()
    assert (fitting["total"], fitting["of"]) == (1, 1) and "lies under" in fitting["rows"][0]["why"]
    made = send(client, "post", "profiles", PROFILE).json()
    chosen = send(client, "patch", f"devices/{switch.pk}", {"edition": 1, "profile": made["id"]})
    assert chosen.status_code == 200
    assert get(client, f"profiles/{made['id']}/devices")["rows"][0]["why"] == "somebody chose it"
    body = {**PROFILE, "tables": ["interfaces"], "edition": 1, "for_all": True}
    assert send(client, "put", f"profiles/{made['id']}", body).json()["devices"] == 1
    assert Device.objects.get().reads["tables"] == ["interfaces"]
    assert client.delete(f"/api/v1/profiles/{made['id']}").status_code == 204
    assert not Profile.objects.exists()


def test_an_object_is_read_live_while_it_is_typed(client, loopback):
    port, place = free_port(), next(loopback)
    with standing_in(port, place):
        device = add_device(place, port=port, kind="v2c", secret={"community": COMMUNITY})

        def read(oid):
            return send(client, "post", "objects/read", {"device": device.pk, "oid": oid}).json()

        seen = read("1.3.6.1.2.1.1.5.0")
        assert seen["instances"][0]["type"] == "OCTET STRING" and seen["instances"][0]["value"].startswith("tst-acc-")
        column = read("1.3.6.1.2.1.2.2.1.8")
        assert [each["number"] for each in column["instances"]] == [1.0, 1.0, 2.0] and not column["more"]
        assert read("1.3.6.1.2.1")["more"]
        assert read("1.3.6.1.4.1.99")["fault"].startswith("the device has nothing there")
        is_problem(
            send(client, "post", "objects/read", {"device": device.pk, "oid": "sysName"}), 422, "is not an object"
        )
    Device.objects.update(port=free_port())
    assert "is closed" in read("1.3.6.1.2.1.1.5.0")["fault"]
