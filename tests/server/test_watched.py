"""Watched traffic, known addresses and strangers by the API."""

from datetime import timedelta

import pytest
from django.test import Client
from django.utils import timezone

from lumtar.core.access import Role
from lumtar.domain.alarms import rules
from lumtar.domain.audit.models import AuditChange
from lumtar.domain.flows.models import Stranger
from lumtar.domain.inventory.models import Interface
from lumtar.domain.inventory.services import add_device
from tests.server.calls import get, is_problem
from tests.server.test_access import person

pytestmark = pytest.mark.django_db
JSON = "application/json"


@pytest.fixture
def port(user):
    device = add_device("127.0.9.9", name="hex-wan-1", site="Hexwater", kind="v2c", secret={"community": "word"})
    return Interface.objects.create(device=device, if_index=1, name="wan1", label="Transport A")


def test_traffic_is_watched_with_its_limits_in_sight(client, port):
    body = {"name": "Backups", "filters": {"interface": str(port.pk), "way": "out", "application": "14"}}
    made = client.post("/api/v1/traffic/watched", body, JSON)
    assert made.status_code == 201 and made.json()["title"] == "hex-wan-1 Transport A"
    assert [each["words"] for each in made.json()["words"]] == ["outbound", "backup"]
    levels = [{"severity": 3, "limit": 5e6, "clear": 4e6}, {"severity": 4, "limit": 9e6, "clear": 8e6}]
    rules.create({"name": "Busy", "measure": "traffic_rate", "levels": levels, "scope": 'traffic is "Backups"'}, "anna")
    (row,) = get(client, "traffic/watched")
    assert row["rate_bps"] == 0 and [each["limit"] for each in row["limits"]] == [5e6, 9e6]
    is_problem(client.post("/api/v1/traffic/watched", body, JSON), 422, "already")
    is_problem(
        client.post("/api/v1/traffic/watched", {**body, "name": "X", "filters": {"site": "No"}}, JSON), 422, "site"
    )
    Interface.objects.all().delete()
    (row,) = get(client, "traffic/watched")
    assert "not there any more" in row["title"]
    assert client.delete(f"/api/v1/traffic/watched/{row['id']}").status_code == 204
    assert get(client, "traffic/watched") == [] and AuditChange.objects.exists()
    assert client.delete(f"/api/v1/traffic/watched/{row['id']}").status_code == 404


def test_known_addresses_and_strangers(client, port, user):
    body = {"name": "County", "within": "10.0.0.0/8\n172.16.0.0/12", "listed": "10.*"}
    made = client.post("/api/v1/traffic/addresses", body, JSON).json()
    is_problem(client.post("/api/v1/traffic/addresses", {**body, "name": "Y", "within": "x"}, JSON), 422, "not a range")
    now = timezone.now()
    for number in range(3):
        Stranger.objects.create(
            known_id=made["id"], hi=0, lo=0xFFFFAC1F0940 + number, first_at=now, last_at=now + timedelta(seconds=number),
            interface=port, peer_hi=0, peer_lo=0xFFFFC6336401, port=443, protocol=6, octets=700,
        )  # fmt: skip
    told = get(client, "traffic/strangers")
    assert told["number"] == 3 and told["rows"][0]["address"] == "172.31.9.66"
    assert (told["rows"][0]["where"], told["rows"][0]["peer"]) == ("hex-wan-1 Transport A", "198.51.100.1")
    path = f"/api/v1/traffic/addresses/{made['id']}"
    assert client.post(f"{path}/accepted", {"addresses": ["172.31.9.66"]}, JSON).json() == {"accepted": 1}
    is_problem(client.post(f"{path}/accepted", {"prefix": "everything"}, JSON), 422, "not a range")
    assert client.post(f"{path}/accepted", {"everybody": True}, JSON).json() == {"accepted": 2}
    assert get(client, "traffic/strangers")["number"] == 0
    (by,) = {row["accepted_by"] for row in get(client, "traffic/strangers?accepted=true")["rows"]}
    assert by == user.username
    (row,) = get(client, "traffic/addresses")
    assert row["listed"].count("accepted") == 3 and row["strangers"] == 0
    changed = client.put(path, {**body, "enabled": False}, JSON)
    assert changed.status_code == 200 and changed.json()["listed"] == "10.*"
    assert client.delete(path).status_code == 204 and not Stranger.objects.exists()


def test_only_engineers_change_what_is_watched(port):
    operator = Client(**person("otto", Role.OPERATOR))
    assert operator.post("/api/v1/traffic/watched", {"name": "X"}, JSON).status_code == 403
    assert operator.post("/api/v1/traffic/addresses", {"name": "X", "within": "10.*"}, JSON).status_code == 403
    assert operator.get("/api/v1/traffic/strangers").status_code == 200
