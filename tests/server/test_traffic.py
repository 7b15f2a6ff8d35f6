"""Traffic and exporters by the API."""

import csv
from datetime import UTC, datetime, timedelta

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from django.test import Client
from django.utils import timezone

from lumtar.core.access import Role
from lumtar.core.flows.records import MAPPED, empty
from lumtar.core.topology.addressing import Addresses, OwnAddress
from lumtar.domain.audit.models import AuditChange
from lumtar.domain.flows import recording, store
from lumtar.domain.flows.models import Exporter
from lumtar.domain.inventory import groups
from lumtar.domain.inventory.models import Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.operation.models import Process
from lumtar.domain.readings import partitions
from lumtar.domain.readings.models import Reading
from lumtar.domain.topology import looks
from lumtar.domain.topology.looks import Looked
from tests.engine.test_flows import conversations
from tests.server.calls import get, is_problem
from tests.server.test_access import person

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(second=0, microsecond=0)


def iso(at):
    return at.isoformat().replace("+00:00", "Z")


@pytest.fixture
def port(user):
    """A port of a router that exports; ten minutes ago three conversations, and what it counted in that minute."""
    device = add_device("127.0.9.9", name="hex-wan-1", site="Hexwater", kind="v2c", secret={"community": "word"})
    made = Interface.objects.create(device=device, if_index=1, name="wan1", label="Transport A")
    own = Addresses((OwnAddress(1, "0.0.0.9", 24),))
    looks.keep(device.pk, Looked(NOW, 3.0, 9, addresses=own))
    begin = NOW - timedelta(minutes=10)
    partitions.ensure((NOW - timedelta(days=1)).date(), (NOW + timedelta(days=1)).date())
    store.MINUTES.ensure(begin - timedelta(hours=1), NOW)
    for table in (store.HOURS, store.NETWORK_HOURS):
        table.ensure(begin, NOW)
    minute = int(begin.timestamp() // 60)
    store.append(conversations(made.pk, minute, (1, 9, 6000, 1, 0), (2, 9, 1500, 2, 0), (9, 1, 300, 1, 1)))
    Reading.objects.create(
        interface=made, at=begin + timedelta(minutes=1), in_octets=8000, out_octets=300, in_packets=1, out_packets=1,
        in_unicast=1, out_unicast=1, in_errors=0, out_errors=0, in_discards=0, out_discards=0, elapsed_ms=60000, flags=0, oper=1,
    )  # fmt: skip
    Exporter.objects.create(
        address="127.0.9.9", protocol="netflow9", domain=0, device=device, first_at=begin - timedelta(days=1), lost=3
    )
    return made


def ask(client, at, **more):
    words = {
        "interface": at.pk,
        "start": iso(NOW - timedelta(minutes=20)),
        "end": iso(NOW - timedelta(minutes=5)),
        **more,
    }
    return get(client, "traffic?" + "&".join(f"{name}={value}" for name, value in words.items()))


def test_applications_of_a_port_and_how_much_of_the_counter_they_explain(client, port):
    told = ask(client, port, way="in")
    assert told["title"] == "hex-wan-1 Transport A" and told["octets"] == 7500 and told["number"] == 2
    assert [(row["name"], row["octets"], row["percent"], row["filters"]) for row in told["rows"]] == [
        ("web", 6000, 80.0, {"application": "1"}),
        ("DNS", 1500, 20.0, {"application": "2"}),
    ]
    assert told["rows"][0]["bps"] == 8 * 6000 / 900 and max(told["rows"][0]["line"]) == 800.0
    assert (told["explained"]["octets"], told["explained"]["of"], told["explained"]["percent"]) == (7500, 8000, 93.75)
    assert told["explained"]["why"][-2:] == [
        "records were lost on their way",
        "what is not IP, or not of version 4 in NetFlow 5, has no records",
    ]
    assert (
        max(each for each in told["counter"] if each) == pytest.approx(8 * 8000 / 60)
        and len(told["counter"]) == len(told["whole"]) == len(told["at"]) == 15
    )
    begun = NOW - timedelta(minutes=8)
    Process.objects.create(name="flows", kind="flows", started_at=begun, beat_at=NOW)
    assert f"was started at {begun:%H:%M} UTC" in ask(client, port, way="in")["explained"]["why"][-1]


def test_an_exporter_that_is_young_is_compared_from_its_first_minute_on_in_any_time(client, port):
    Exporter.objects.update(first_at=NOW - timedelta(minutes=10))
    told = ask(client, port, way="in", start=iso(NOW - timedelta(days=1)))["explained"]
    assert (told["octets"], told["of"], datetime.fromisoformat(told["since"])) == (
        7500,
        8000,
        NOW - timedelta(minutes=10),
    )


def test_filters_narrow_and_are_said_in_words(client, port):
    told = ask(client, port, way="in", by="conversation", sender="0.0.0.1")
    (row,) = told["rows"]
    assert row["name"] == "0.0.0.1 → 0.0.0.9 hex-wan-1" and row["more"] == "web tcp 443"
    assert row["filters"] == {"sender": "0.0.0.1", "receiver": "0.0.0.9", "protocol": "6", "port": "443"}
    assert told["filters"] == [{"name": "way", "words": "inbound"}, {"name": "sender", "words": "from 0.0.0.1"}]
    for by, name in (
        ("sender", "0.0.0.1"), ("receiver", "0.0.0.9"), ("port", "tcp 443"), ("protocol", "TCP"), ("DSCP", "best effort"),
        ("site", "elsewhere → elsewhere"),
    ):  # fmt: skip
        assert ask(client, port, way="in", by=by, sender="0.0.0.1")["rows"][0]["name"] == name
    assert ask(client, port, way="in", port=80)["rows"] == []
    one = ask(client, port, way="in", limit=1)
    assert (len(one["rows"]), one["number"], one["octets"], sum(one["whole"])) == (1, 2, 7500, 1000.0)


def test_of_a_device_what_came_in_and_of_everything_each_once(client, port):
    end = f"start={iso(NOW - timedelta(minutes=20))}&end={iso(NOW)}"
    assert get(client, f"traffic?device={port.device_id}&{end}")["octets"] == 7500
    whole = get(client, f"traffic?{end}")
    assert whole["title"] == "the whole network" and whole["octets"] == 7500 and whole["explained"] is None
    assert get(client, f"traffic?site=Hexwater&{end}")["octets"] == 0, "by addresses, and these are no site's"


def test_of_a_group_what_came_in_at_its_ports(client, port):
    group = groups.save(groups.GroupSpec("Transports", 'label is "Transport A"', [], False), "anna")
    end = f"start={iso(NOW - timedelta(minutes=20))}&end={iso(NOW)}"
    told = get(client, f"traffic?group={group.pk}&{end}")
    assert told["title"] == "the group Transports" and told["octets"] == 7500
    assert get(client, f"traffic/records?group={group.pk}")["number"] == 0
    other = groups.save(groups.GroupSpec("Others", 'label is "Transport B"', [], False), "anna")
    assert get(client, f"traffic?group={other.pk}&{end}")["octets"] == 0


def test_what_cannot_be_asked_is_refused_in_words(client, port):
    is_problem(client.get("/api/v1/traffic?sender=nobody"), 422, "nobody is not an address")
    assert client.get("/api/v1/traffic?by=colour").status_code == 422
    assert client.get("/api/v1/traffic?interface=999999").status_code == 404
    is_problem(client.get("/api/v1/traffic?site=Nowhere"), 422, "no site Nowhere")
    assert client.get("/api/v1/traffic?group=987654").status_code == 404


def test_what_is_new_since_an_earlier_time(client, port):
    told = ask(
        client,
        port,
        way="in",
        earlier_s=60,
        start=iso(NOW - timedelta(minutes=10)),
        end=iso(NOW - timedelta(minutes=9)),
    )
    assert [(row["name"], row["octets"], row["before"]) for row in told["rows"]] == [("web", 6000, 0), ("DNS", 1500, 0)]
    minute = int((NOW - timedelta(minutes=11)).timestamp() // 60)
    store.append(conversations(port.pk, minute, (1, 9, 2000, 1, 0)))
    told = ask(
        client,
        port,
        way="in",
        earlier_s=60,
        start=iso(NOW - timedelta(minutes=10)),
        end=iso(NOW - timedelta(minutes=9)),
    )
    assert [row["before"] for row in told["rows"]] == [2000, 0]
    assert ask(client, port, way="in")["rows"][0]["before"] is None


def test_traffic_as_files(client, port):
    words = f"interface={port.pk}&way=in&by=conversation&start={iso(NOW - timedelta(minutes=20))}&end={iso(NOW)}"
    answer = client.get(f"/api/v1/traffic/export?{words}")
    lines = list(csv.reader(answer.content.decode().splitlines()))
    assert lines[0] == ["conversation", "more", "octets", "packets", "flows", "start", "end"]
    assert lines[1][:5] == ["0.0.0.1 → 0.0.0.9 hex-wan-1", "web tcp 443", "6000", "1", "1"]
    table = pq.read_table(pa.BufferReader(client.get(f"/api/v1/traffic/export?{words}&format=parquet").content))
    assert table["octets"].to_pylist() == [6000, 1500]
    is_problem(client.get("/api/v1/traffic/export?sender=nobody"), 422, "not an address")


def test_exporters_strangers_first_and_sampling_by_hand(client, port):
    Exporter.objects.create(address="192.0.2.9", protocol="ipfix", domain=7)
    stranger, known = get(client, "exporters")
    assert (stranger["address"], stranger["device_id"], known["device"], known["lost"]) == (
        "192.0.2.9",
        None,
        "hex-wan-1",
        3,
    )
    path = f"/api/v1/exporters/{known['id']}"
    told = client.put(path, {"usual_sampling": 64}, content_type="application/json")
    assert told.status_code == 200 and told.json()["usual_sampling"] == 64
    is_problem(client.put(path, {"usual_sampling": 0}, content_type="application/json"), 422, "one in 1 to")
    assert client.put(path, {"usual_sampling": None}, content_type="application/json").json()["usual_sampling"] is None
    assert AuditChange.objects.exists()


def test_who_is_limited_sees_the_traffic_of_their_ports_alone(port):
    add_device("127.0.9.8", name="other", site="Elsewhere", kind="v2c", secret={"community": "word"})
    browser = Client(**person("berta", Role.VIEWER, sites=["Elsewhere"]))
    assert get(browser, f"traffic?start={iso(NOW - timedelta(minutes=20))}")["octets"] == 0
    assert get(browser, "exporters") == []
    assert browser.get(f"/api/v1/traffic?interface={port.pk}").status_code == 404


def test_records_are_kept_one_by_one_for_whoever_looks(client, port):
    begun = client.post(f"/api/v1/traffic/live?interface={port.pk}", {"last_s": 60}, "application/json")
    assert begun.status_code == 200 and begun.json()["rows"] == []
    assert port.device_id in recording.wanted() and port.device_id + 1 not in recording.wanted()
    assert port.device_id not in recording.wanted(timezone.now() + timedelta(seconds=20)), "nobody looks any more"
    records = empty(2)
    records["src_lo"], records["dst_lo"] = (MAPPED | 0x0A000001, MAPPED | 0x0A000002), MAPPED | 0xC6336401
    records["octets"], records["protocol"], records["tcp_flags"], records["tos"] = (
        (2**63 + 5, 700),
        6,
        0x12,
        46 << 2 | 1,
    )
    records["end"] = timezone.now().timestamp()
    records["start"] = records["end"] - 2
    store.RECORDS.ensure(NOW, NOW + timedelta(minutes=1))
    more = {"in_id": np.array([port.pk, 0]), "port": np.array([443, 443]), "application": np.array([1, 1])}
    more["server_name"] = np.array([b"eu.films.example", b""], "S100")
    recording.append(recording.stored_as(port.device_id, records, timezone.now().timestamp(), more))
    (row,) = client.post(f"/api/v1/traffic/live?interface={port.pk}", {}, "application/json").json()["rows"]
    assert row["source"]["address"] == "10.0.0.1" and row["octets"] == 2**63 - 1 and row["tcp_flags"] == "SYN ACK"
    assert (row["dscp"], row["ecn"], row["service"], row["came_in"]) == (46, 1, "tcp 443", "Transport A")
    assert row["server_name"] == "eu.films.example"
    whole = get(client, "traffic/records?sender=10.0.0.2")
    assert whole["number"] == 1 and whole["rows"][0]["octets"] == 700
    lines = list(csv.DictReader(client.get("/api/v1/traffic/records/export").content.decode().splitlines()))
    assert [each["source_address"] for each in lines] == ["10.0.0.1", "10.0.0.2"]
    table = pq.read_table(pa.BufferReader(client.get("/api/v1/traffic/records/export?format=parquet").content))
    assert table.num_rows == 2


def test_names_of_servers_are_tried_on_records_that_were_kept(client, port):
    body = {"name": "films", "server_names": "films.example"}
    is_problem(
        client.post("/api/v1/applications/try", body, "application/json"), 422, "no records of this time were kept"
    )
    records = empty(3)
    records["octets"], records["sampling"], records["application"] = (700, 300, 50), (10, 1, 0), (0, 0, 7)
    records["src_lo"], records["protocol"] = np.arange(3), 6
    store.RECORDS.ensure(NOW, NOW + timedelta(minutes=1))
    more = {
        "server_name": np.array([b"eu.films.example", b"www.example", b""], "S100"),
        "application": np.array([1, 1, 0]),
    }
    recording.append(recording.stored_as(port.device_id, records, timezone.now().timestamp() - 1, more))
    tried = client.post("/api/v1/applications/try", body, "application/json").json()
    assert (tried["octets"], tried["of_octets"], tried["now"]) == (7000, 7350, [{"name": "web", "octets": 7000}])
    assert (
        client.post("/api/v1/applications/try", {"name": "x", "told": [7]}, "application/json").json()["octets"] == 50
    )
    is_problem(
        client.post("/api/v1/applications", {**body, "server_names": "*.x"}, "application/json"),
        422,
        "name of a server",
    )
    assert client.post("/api/v1/applications", body, "application/json").json()["server_names"] == "films.example"


def test_recordings_are_begun_and_ended(client, port):
    wrong = client.post("/api/v1/traffic/recordings", {"device": port.device_id, "hours": 0}, "application/json")
    is_problem(wrong, 422, "a minute to seven days")
    made = client.post("/api/v1/traffic/recordings", {"hours": 8}, "application/json").json()
    assert made["device"] == "" and 12345 in recording.wanted()
    assert [each["id"] for each in get(client, "traffic/recordings")] == [made["id"]]
    assert AuditChange.objects.exists()
    assert client.delete(f"/api/v1/traffic/recordings/{made['id']}").status_code == 204
    assert 12345 not in recording.wanted()
    assert client.delete(f"/api/v1/traffic/recordings/{made['id']}").status_code == 404
