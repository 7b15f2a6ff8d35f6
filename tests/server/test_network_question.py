"""Was it the network? Two sites with a line between them, which fills, breaks, or only leads to a slow server."""

from datetime import timedelta

import numpy as np
import pytest
from django.test import Client
from django.utils import timezone

from lumtar.core.access import Role
from lumtar.core.alarms.facts import Said, stored
from lumtar.domain.alarms.models import Alarm, AlarmChange
from lumtar.domain.flows import store as flow_store
from lumtar.domain.inventory.models import Interface, InterfaceSpeed, Site
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.paths import store
from lumtar.domain.paths.models import Path
from lumtar.domain.readings import partitions
from lumtar.domain.readings.models import Reading
from lumtar.domain.topology.models import ManualLink
from tests.server.calls import get, is_problem
from tests.server.test_access import person

pytestmark = pytest.mark.django_db
NOW = timezone.now().replace(second=0, microsecond=0)
MINUTES = 60


@pytest.fixture
def line(user):
    """A router at each of two sites, and the line between their first ports: 100 Mb/s."""
    partitions.ensure((NOW - timedelta(days=2)).date(), (NOW + timedelta(days=1)).date())
    for table in (store.MINUTES, store.HOURS, flow_store.RESPONSE_MINUTES, flow_store.RESPONSE_HOURS):
        table.ensure(NOW - timedelta(days=9), NOW + timedelta(hours=1))
    made = []
    for number, site in enumerate(("Hexwater", "Central"), 1):
        device = add_device(
            f"127.0.8.{number}", name=f"router-{number}", site=site, kind="v2c", secret={"community": "word"}
        )
        port = Interface.objects.create(device=device, if_index=1, name="wan1", label="Line", role="wan")
        InterfaceSpeed.objects.create(
            interface=port,
            since=NOW - timedelta(days=2),
            in_bps=10**8,
            out_bps=10**8,
            port_bps=10**8,
            in_source="port",
            out_source="port",
        )
        made.append(port)
    one, other = made
    ManualLink.objects.create(
        a_device=one.device,
        a_interface=one,
        b_device=other.device,
        b_interface=other,
        entered_by="anna",
        since=NOW - timedelta(days=30),
    )
    return one


def load(port, percent, minutes=MINUTES):
    """Readings of the last minutes at a share of 100 Mb/s outbound."""
    octets = int(percent / 100 * 10**8 / 8 * 60)
    Reading.objects.bulk_create(
        Reading(
            interface=port, at=NOW - timedelta(minutes=n), in_octets=octets // 10, out_octets=octets, in_packets=1000, out_packets=1000,
            in_unicast=1, out_unicast=1, in_errors=0, out_errors=0, in_discards=0, out_discards=0, elapsed_ms=60000, flags=0, oper=1,
        )
        for n in range(minutes)
    )  # fmt: skip


def path(name, ms, usual_ms, lost=0, kind="stamp", **parts):
    """A path between the sites with its last hour, and its hours of the days before."""
    sites = {site.name: site for site in Site.objects.all()}
    row = Path.objects.create(
        name=name, from_site=sites["Hexwater"], to_site=sites["Central"], address="127.0.8.2", kind=kind
    )
    for table, step, number, took in ((store.HOURS, 3600, 48, usual_ms), (store.MINUTES, 60, MINUTES, ms)):
        rows = np.zeros(number, store.ROW)
        for each in store.FLOATS:
            rows[each] = np.nan
        end = NOW.timestamp() - (3600 if table is store.HOURS else 0)
        rows["path"], rows["sent"] = row.pk, step
        rows["at"] = (end - step * np.arange(1, number + 1)) // step * step
        for each in store.TRIPS:
            rows[each] = 1000.0 * took
        rows["connected"] = (
            1000.0 * (parts["usual_connected"] if table is store.HOURS else parts["connected"]) if parts else np.nan
        )
        if table is store.MINUTES:
            rows["lost"] = lost
        store.append(rows, table=table)
    return row


def ask(client, whence="Hexwater", whither="Central", hours=1.0):
    start = (NOW - timedelta(hours=hours)).isoformat().replace("+00:00", "Z")
    end = NOW.isoformat().replace("+00:00", "Z")
    return get(client, f"was-it-the-network?whence={whence}&whither={whither}&start={start}&end={end}")


def test_a_full_line_is_the_network(client, line):
    load(line, 99)
    path("Voice", 180, 20)
    told = ask(client)
    assert told["answer"] == "yes"
    assert told["sentence"] == (
        "Yes: router-1 Line was full: 99 % of its capacity; Voice took 180 ms there and back instead of 20 ms."
    )
    assert told["reasons"][0]["page"] == f"/fleet/port/{line.pk}" and told["hops"] == ["router-1", "router-2"]


def test_a_slow_server_is_not(client, line):
    load(line, 30)
    path("Voice", 21, 20)
    path("Catalogue", 4300, 40, kind="http", usual_connected=20, connected=21)
    told = ask(client, whither="Catalogue")
    assert told["answer"] == "no"
    assert told["sentence"] == (
        "No: Catalogue took 4.3 s for an answer instead of 40 ms, while the connection stood within 21 ms."
        " No link on the way was full; the busiest was router-1 Line at 30 %."
    )
    assert "probes over one path took 21 ms there and back, as before" in told["usual"]


def test_a_service_that_is_far_away_is_the_network(client, line):
    load(line, 30)
    path("Catalogue", 640, 40, kind="http", usual_connected=20, connected=600)
    told = ask(client, whither="Catalogue")
    assert told["answer"] == "yes" and "was reached within 600 ms instead of 20 ms" in told["sentence"]


def test_a_connection_that_takes_long_is_the_network(client, line):
    load(line, 30)
    path("Catalogue, connection", 640, 20, kind="tcp", usual_connected=20, connected=640)
    told = ask(client, whither="Catalogue, connection")
    assert told["answer"] == "yes" and "was reached within 640 ms instead of 20 ms" in told["sentence"]


def test_a_device_without_an_answer_is_the_network(client, line):
    path("Voice", float("nan"), 20, lost=60)
    alarm = Alarm.objects.create(
        resource_kind="device", resource_id=line.device_id, type="unreachable", qualifier="", label="router-1", site="Hexwater",
        device=line.device, severity=5, raised_at=NOW - timedelta(minutes=30), changed_at=NOW - timedelta(minutes=30),
    )  # fmt: skip
    AlarmChange.objects.create(alarm=alarm, at=NOW - timedelta(minutes=30), severity=5, facts=stored(Said("no answer")))
    Entry.objects.create(
        at=NOW - timedelta(minutes=31), kind="user", device=line.device, text="configuration changed", by="berta"
    )
    told = ask(client)
    assert told["answer"] == "yes" and "router-1" in told["sentence"]
    words = [each["words"] for each in told["timeline"]]
    assert "router-1: configuration changed (berta)" in words and "nobody answered at the end of Voice" in words
    assert "how full router-1 Line was" in told["unseen"]


def test_where_nothing_was_measured_it_cannot_be_told(client, line):
    told = ask(client)
    assert told["answer"] == "unknown" and "delay and loss: no path between the two is probed" in told["unseen"]


def test_where_all_was_well_that_is_said(client, line):
    load(line, 30)
    path("Voice", 21, 20)
    told = ask(client)
    assert told["answer"] == "nothing" and told["reasons"] == []


def test_questions_that_cannot_be_answered(client, line):
    base = "/api/v1/was-it-the-network"
    is_problem(client.get(f"{base}?whence=Hexwater&whither=Nowhere"), 422, "Nothing is known")
    is_problem(client.get(f"{base}?whence=&whither=Central"), 422, "Name a site")
    long_ago = (NOW - timedelta(days=30)).isoformat().replace("+00:00", "Z")
    is_problem(client.get(f"{base}?whence=Hexwater&whither=Central&start={long_ago}"), 422, "a minute to seven days")
    Site.objects.create(name="Empty")
    is_problem(client.get(f"{base}?whence=Empty&whither=Central"), 422, "no device at Empty")


def test_who_is_limited_is_told_of_nothing_else(line):
    browser = Client(**person("cleo", Role.VIEWER, sites=["Hexwater"]))
    is_problem(browser.get("/api/v1/was-it-the-network?whence=Hexwater&whither=Central"), 422, "Nothing is known")
