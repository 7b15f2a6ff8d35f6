"""Response times by the API: from rows as the receiver stores them to means, files, watched traffic and rules."""

from datetime import timedelta

import numpy as np
import pytest
from django.test import Client
from django.utils import timezone

from lumtar.core.access import Role
from lumtar.core.flows.records import address_numbers
from lumtar.core.flows.response_times import RESPONSES
from lumtar.core.topology.addressing import Addresses, OwnAddress
from lumtar.domain.audit.models import AuditChange
from lumtar.domain.flows import response_times, store
from lumtar.domain.flows.models import Exporter, ResponseHour, ResponseMinute
from lumtar.domain.inventory import groups
from lumtar.domain.inventory.models import Interface, Site
from lumtar.domain.inventory.services import add_device
from lumtar.domain.readings.rollups import hour_of
from lumtar.domain.topology import looks
from lumtar.domain.topology.looks import Looked
from lumtar.engine.outbox import Outbox
from tests.server.calls import get, is_problem
from tests.server.test_access import person

pytestmark = pytest.mark.django_db
JSON = "application/json"
NOW = timezone.now()
ASKED = "traffic/response-times"


def rows_of(port, at, *rows):
    """Rows of (server, application, network ms, server ms, answers) at a port, towards another site."""
    made = np.zeros(len(rows), RESPONSES)
    for place, (address, application, network, server, number) in enumerate(rows):
        made["server_hi"][place], made["server_lo"][place] = address_numbers(address)
        made["application"][place] = application
        for name, ms in (("network", network), ("server", server)):
            if ms is not None:
                made[f"{name}_us"][place], made[f"{name}_number"][place] = 1000 * ms * number, number
                made[f"{name}_longest_us"][place] = 2000 * ms
    made["minute"] = int(at.timestamp() // 60)
    made["device"], made["input"], made["output"], made["port"], made["protocol"] = port.device_id, 0, port.pk, 443, 6
    made["client_site"], made["server_site"] = port.device.site_id, 0
    return made


@pytest.fixture
def port(user):
    """A port of a router, by which requests went to two servers ten minutes ago; one of them is slow."""
    device = add_device("127.0.9.9", name="hex-wan-1", site="Hexwater", kind="v2c", secret={"community": "word"})
    port = Interface.objects.create(device=device, if_index=1, name="wan1", label="Transport A")
    looks.keep(device.pk, Looked(NOW, 3.0, 9, addresses=Addresses((OwnAddress(1, "10.0.0.5", 24),))))
    begin = NOW - timedelta(minutes=10)
    for table in (store.RESPONSE_MINUTES, store.RESPONSE_HOURS, store.MINUTES, store.HOURS):
        table.ensure(NOW - timedelta(hours=6), NOW)
    rows = rows_of(
        port, begin, ("198.51.100.7", 1, 20, 40, 30), ("10.0.0.5", 1, 10, 900, 10), ("2001:db8::5", 2, 30, None, 5)
    )
    response_times.append(rows)
    return port


def test_means_are_over_answers_with_the_slowest_first(client, port):
    told = get(client, ASKED)
    assert told["title"] == "the whole network" and told["number"] == 2
    web, names = told["rows"]
    assert (web["name"], web["filters"]) == ("web", {"application": "1"})
    assert web["network"] == {"ms": pytest.approx(17.5), "longest_ms": 40.0, "number": 40}
    assert web["server"] == {"ms": pytest.approx(255.0), "longest_ms": 1800.0, "number": 40}
    assert names["server"] == {"ms": None, "longest_ms": None, "number": 0}
    assert told["whole"]["network"]["number"] == 45
    known = [each for each in told["network"] if each is not None]
    assert known == [pytest.approx(17.5 * 40 / 45 + 30 * 5 / 45)]
    assert len(told["at"]) == len(told["network"]) == len(told["server"])


def test_it_is_narrowed_and_put_together_by_server_site_and_exporter(client, port):
    rows = get(client, f"{ASKED}?by=server&application=1")["rows"]
    assert [(row["name"], row["more"]) for row in rows] == [
        ("10.0.0.5 tcp 443", "hex-wan-1"),
        ("198.51.100.7 tcp 443", ""),
    ]
    assert (
        get(client, f"{ASKED}?{'&'.join(f'{k}={v}' for k, v in rows[0]['filters'].items())}")["whole"]["server"][
            "number"
        ]
        == 10
    )
    (pair,) = get(client, f"{ASKED}?by=site")["rows"]
    assert pair["name"] == "Hexwater asks elsewhere"
    (exporter,) = get(client, f"{ASKED}?by=exporter&interface={port.pk}&way=in")["rows"]
    assert exporter["name"] == "hex-wan-1", "the network's time is that of both ways"
    group = groups.save(groups.GroupSpec("Transports", 'label is "Transport A"', [], False), "anna")
    assert get(client, f"{ASKED}?group={group.pk}")["number"] == 2
    for nothing in ("site=Elsewhere", "device=999", "address=10.0.0.6"):
        Site.objects.get_or_create(name="Elsewhere")
        answer = client.get(f"/api/v1/{ASKED}?{nothing}")
        assert answer.status_code == 404 or answer.json()["number"] == 0
    is_problem(client.get(f"/api/v1/{ASKED}?dscp=46"), 422, "not by DSCP")
    is_problem(client.get(f"/api/v1/{ASKED}?address=nobody"), 422, "is not an address")


def test_hours_are_the_same_as_their_minutes(client, port):
    hour = hour_of(NOW) - timedelta(hours=2)
    for minute in (3, 50):
        response_times.append(rows_of(port, hour + timedelta(minutes=minute), ("10.0.0.5", 1, 10, 100 * minute, 4)))
    assert response_times.roll_up(hour) == response_times.roll_up(hour) == 1
    row = ResponseHour.objects.get()
    assert (row.server_us, row.server_number, row.server_longest_us) == (4 * 5300 * 1000, 8, 10_000_000)
    begin = hour - timedelta(days=1)
    told = get(client, f"{ASKED}?start={begin:%Y-%m-%dT%H:%M:%SZ}&end={hour + timedelta(hours=1):%Y-%m-%dT%H:%M:%SZ}")
    assert told["step_s"] >= 360 and told["whole"]["server"] == {
        "ms": pytest.approx(2650.0),
        "longest_ms": 10_000.0,
        "number": 8,
    }


def test_a_batch_is_stored_once_and_waits_while_it_fails(port):
    tried = []

    def append(rows, batch):
        tried.append(batch)
        if len(tried) == 1:
            raise ConnectionError
        response_times.append(rows, batch)

    box = Outbox(store.RESPONSE_MINUTES, append, 5)
    box.put(rows_of(port, NOW, ("10.0.0.5", 1, 10, 9, 4)))
    with pytest.raises(ConnectionError):
        box.write()
    assert box.waiting == 1 and box.write() and not box.write()
    response_times.append(rows_of(port, NOW, ("10.0.0.5", 1, 10, 9, 4)), tried[1])
    assert ResponseMinute.objects.count() == 4 and tried[0] == tried[1]
    for _ in range(3):
        box.put(rows_of(port, NOW, *[("10.0.0.5", 1, 10, 9, 4)] * 2))
    assert (box.waiting, box.dropped) == (4, 2), "the oldest go first"


def test_they_are_had_as_a_file(client, port):
    text = client.get(f"/api/v1/{ASKED}/export?by=server").content.decode()
    assert text.splitlines()[0].startswith("server,more,network_ms,network_longest_ms,network_number,server_ms")
    assert "10.0.0.5 tcp 443,hex-wan-1,10.0,20.0,10,900.0" in text
    assert client.get(f"/api/v1/{ASKED}/export?format=parquet").content[:4] == b"PAR1"


def test_fields_are_declared_from_what_exporters_send(client, port, user):
    Exporter.objects.create(
        address="127.0.9.9", protocol="ipfix", domain=0, device=port.device,
        templates=[[256, 0, [[8, 4, 0], [1, 4, 32473], [2, 65535, 32473], [1, 8, 29305]]]],
    )  # fmt: skip
    told = get(client, "traffic/declared-fields")
    assert told["rows"] == [] and [
        (each["element"], each["length"], each["exporters"]) for each in told["unknown"]
    ] == [
        (1, 4, ["hex-wan-1"]),
        (2, 0, ["hex-wan-1"]),
    ]
    body = {"enterprise": 32473, "element": 1, "part": "server", "unit": "ms"}
    made = client.post("/api/v1/traffic/declared-fields", body, JSON)
    assert made.status_code == 201
    assert [each["element"] for each in get(client, "traffic/declared-fields")["unknown"]] == [2]
    is_problem(client.post("/api/v1/traffic/declared-fields", body, JSON), 422, "declared already")
    for wrong, words in (
        ({"element": 40_000}, "number from 1 to 32767"),
        ({"enterprise": 29305}, "not that of reverse"),
        ({"enterprise": 2**32}, "32 bits"),
    ):
        is_problem(client.post("/api/v1/traffic/declared-fields", {**body, **wrong}, JSON), 422, words)
    assert client.post("/api/v1/traffic/declared-fields", {**body, "part": "mood"}, JSON).status_code == 422
    one = f"/api/v1/traffic/declared-fields/{made.json()['id']}"
    assert client.put(one, {**body, "part": "network"}, JSON).json()["part"] == "network"
    assert Client(**person("viewer-1", Role.VIEWER)).delete(one).status_code == 403
    assert client.delete(one).status_code == 204 and client.delete(one).status_code == 404
    assert AuditChange.objects.exists()


def test_watched_traffic_says_how_long_answers_take(client, port):
    made = client.post("/api/v1/traffic/watched", {"name": "Web", "filters": {"application": "1"}}, JSON).json()
    assert made["network_ms"] is None
    last = store.complete_until(timezone.now()) - timedelta(minutes=1)
    response_times.append(rows_of(port, last, ("10.0.0.5", 1, 10, 700, 10)))
    (row,) = get(client, "traffic/watched")
    assert (row["network_ms"], row["server_ms"], row["rate_bps"]) == (pytest.approx(10.0), pytest.approx(700.0), 0)
