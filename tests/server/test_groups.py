"""Groups as a client of the API sees them."""

import pytest

from lumtar.domain.inventory.models import Group, Interface
from tests.network import fill
from tests.server.calls import get, is_problem

pytestmark = pytest.mark.django_db


@pytest.fixture
def network(user):
    found = fill(1.0)
    Interface.objects.filter(label="Transport A").update(role="wan")
    return found


def post(client, path, body):
    return client.post(f"/api/v1/{path}", body, "application/json")


def test_a_group_narrows_every_list_chart_total_and_export(client, network):
    assert post(client, "groups", {"name": "WAN links", "condition": "role is wan"}).status_code == 201
    (group,) = get(client, "groups")["rows"]
    wans = Interface.objects.filter(role="wan")
    assert (group["ports"], group["devices"]) == (wans.count(), wans.values("device").distinct().count())
    ids = set(wans.values_list("pk", flat=True))
    narrow = {"group": group["id"]}
    assert {row["id"] for row in get(client, "interfaces", **narrow)["rows"]} == ids
    assert {port for device in get(client, "grid", **narrow)["devices"] for port in device["ids"]} == ids
    assert get(client, "series", **narrow)["ports"] == len(ids)
    assert {row["id"] for row in get(client, "top", **narrow)["rows"]} <= ids
    assert {row["id"] for row in get(client, "forecasts", **narrow)} == ids
    (inward, outward) = get(client, "forecasts", **narrow, together=True)
    assert inward["label"] == outward["label"] == f"{len(ids)} ports together"
    assert get(client, "devices", **narrow)["total"] == group["devices"]
    assert get(client, "catalogue", **narrow)["total"] == group["devices"]
    told = client.get("/api/v1/export/readings", {**narrow, "level": "readings"})
    lines = b"".join(told.streaming_content).decode().splitlines()
    assert {line.split(",")[0] for line in lines[1:]} <= {row.device.name for row in wans.select_related("device")}


def test_wrong_groups_are_answered_in_words(client, network):
    assert is_problem(client.get("/api/v1/interfaces", {"group": 99}), 404, "nothing with that number")
    assert is_problem(client.get("/api/v1/catalogue.csv", {"group": 99}), 404, "nothing with that number")
    assert is_problem(post(client, "groups/try", {"condition": "speed >= fast"}), 422, "write it like 100M")
    found = post(client, "groups/try", {"condition": "role is wan"}).json()
    assert found["ports"] == Interface.objects.filter(role="wan").count() and found["examples"][0]["label"]
    post(client, "groups", {"name": "One"})
    one = Group.objects.get()
    body = {"name": "One", "edition": one.edition + 1}
    assert is_problem(client.put(f"/api/v1/groups/{one.pk}", body, "application/json"), 409, "changed this meanwhile")
    itself = {"name": "One", "edition": one.edition, "subgroups": [one.pk]}
    assert (
        "cannot contain itself" in client.put(f"/api/v1/groups/{one.pk}", itself, "application/json").json()["detail"]
    )
    assert is_problem(post(client, f"groups/{one.pk}/ports", {"ports": [999_999]}), 422, "not there any more")
    assert client.delete(f"/api/v1/groups/{one.pk}").status_code == 204
    assert is_problem(client.delete(f"/api/v1/groups/{one.pk}"), 404, "nothing")


def test_sites_are_counted_as_they_were(client, network):
    port = Interface.objects.order_by("pk").first()
    now = {row["name"]: row["ports"] for row in get(client, "sites")}
    Interface.objects.filter(pk=port.pk).update(first_seen="2026-01-02T00:00:00Z")
    port.device.__class__.objects.update(added_at="2025-12-01T00:00:00Z")
    Interface.objects.exclude(pk=port.pk).update(first_seen="2025-12-01T00:00:00Z")
    site = port.device.site.name
    then = {row["name"]: row["ports"] for row in get(client, "sites", at="2026-01-01T00:00:00Z")}
    assert then[site] == now[site] - 1
    assert get(client, "sites", at="2025-01-01T00:00:00Z") == []
