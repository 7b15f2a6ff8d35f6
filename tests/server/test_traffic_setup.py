"""Applications of one's own, autonomous systems and places by the API, and traffic put together by them."""

from datetime import timedelta
from pathlib import Path
from tempfile import NamedTemporaryFile

import numpy as np
import pytest
from mmdb_writer import MMDBWriter
from netaddr import IPSet

from lumtar.core.flows import totals
from lumtar.core.flows.prefix_tables import PLACES, SYSTEMS, read
from lumtar.core.flows.records import MAPPED, address_numbers
from lumtar.core.refusal import Refusal
from lumtar.domain.flows import applications, store
from tests.server.calls import get, is_problem
from tests.server.test_traffic import NOW, iso, port  # noqa: F401

JSON = "application/json"
pytestmark = pytest.mark.django_db
SYSTEMS_CSV = "prefix,number,name\n198.51.100.0/28,AS64496,Wellmere\n198.51.100.0/24,64497,Brightwater\n2001:db8:f00d::/48,64497,Brightwater\n"
PLACES_CSV = "prefix,place,country,latitude,longitude\n198.51.100.0/28,Vessen,Northland,54.9,1.2\n198.51.100.16/28,Teravo,Eastria,48.3,17.4\n"


def far(port, *rows):  # noqa: F811
    """Conversations with somebody elsewhere: (their address, octets, is it put together)."""
    made = np.zeros(len(rows), totals.CONVERSATION)
    for place, (address, octets, is_rest) in enumerate(rows):
        made["src_hi"][place], made["src_lo"][place] = (0, 0) if is_rest else address_numbers(address)
        made["octets"][place], made["is_rest"][place] = octets, is_rest
    made["dst_lo"], made["dst_site"], made["interface"] = MAPPED | 0x0A000001, 1, port.pk
    made["minute"], made["packets"], made["flows"] = int((NOW - timedelta(minutes=9)).timestamp() // 60), 1, 1
    made["protocol"], made["port"], made["is_counted"] = 6, 8080, 1
    store.append(made)


@pytest.fixture
def tables(client):
    for kind, text in (("systems", SYSTEMS_CSV), ("places", PLACES_CSV)):
        assert client.put(f"/api/v1/prefixtables/{kind}", {"text": text}, JSON).status_code == 200


def ask(client, **more):
    words = {"start": iso(NOW - timedelta(minutes=9)), "end": iso(NOW - timedelta(minutes=6)), **more}
    return get(client, "traffic?" + "&".join(f"{name}={value}" for name, value in words.items()))


def test_traffic_by_autonomous_system_country_and_place(client, port, tables):  # noqa: F811
    far(
        port,
        ("198.51.100.3", 1000, 0),
        ("198.51.100.20", 700, 0),
        ("2001:db8:f00d::9", 90, 0),
        ("192.0.2.1", 5, 0),
        ("", 44, 1),
    )
    told = ask(client, by="AS")
    assert [(row["name"], row["octets"]) for row in told["rows"]] == [
        ("AS64496", 1000), ("AS64497", 790), ("in no prefix of the table", 5), ("smaller ones together", 44),
    ]  # fmt: skip
    assert told["octets"] == 1839 and sum(told["whole"]) > 0 and told["rows"][0]["more"] == "Wellmere"
    told = ask(client, by="place")
    assert told["rows"][0]["where"] == [54.9, 1.2] and [row["name"] for row in told["rows"][:2]] == ["Vessen", "Teravo"]
    assert [row["name"] for row in ask(client, by="country")["rows"][:2]] == ["Northland", "Eastria"]
    # Each row narrows traffic to itself; the longest prefix decides, so that of a system within another one is not counted for both.
    assert told["rows"][1]["filters"] == {"place": "Teravo"}
    assert ask(client, by="sender", place="Teravo")["octets"] == 700
    assert ask(client, by="sender", system=64496)["octets"] == 1000
    assert ask(client, by="sender", system=64497)["octets"] == 790
    assert ask(client, by="sender", system=64497, place="Teravo")["octets"] == 700
    assert ask(client, by="AS", earlier_s=86400)["rows"][0]["before"] == 0
    file = client.get("/api/v1/traffic/export?by=AS").content.decode()
    assert file.startswith("AS,more,octets")


def test_without_a_table_it_is_said_what_to_do(client, port):  # noqa: F811
    words = f"start={iso(NOW - timedelta(minutes=9))}&end={iso(NOW)}&by=AS"
    is_problem(client.get(f"/api/v1/traffic?{words}"), 422, "load one under Setup")
    assert get(client, "prefixtables") == []
    assert client.delete("/api/v1/prefixtables/systems").status_code == 404
    assert client.put("/api/v1/prefixtables/stars", {"text": "x"}, JSON).status_code == 422


@pytest.mark.parametrize(
    ("text", "columns", "words"),
    [
        ("a,b\n1,2\n", SYSTEMS, "prefix is missing"), ("prefix,number,name\n", SYSTEMS, "no line with a prefix"),
        ("prefix,number\n10.0.0.0/33,1\n", SYSTEMS, "Line 2"), ("prefix,number\n10.0.0.0/8,0\n", SYSTEMS, "no number of an autonomous"),
        ("prefix,place,country,latitude,longitude\n10.0.0.0/8,X,Y,95,3\n", PLACES, "at most 90"),
        ("prefix,place,country,latitude,longitude\n10.0.0.0/8,X,Y,9,\n", PLACES, "belong together"),
        ("prefix,place\n10.0.0.0/8,\n", PLACES, "no place"),
    ],
)  # fmt: skip
def test_tables_that_cannot_be_understood(text, columns, words):
    with pytest.raises(Refusal, match=words):
        read(text, columns)


def test_a_table_from_a_spreadsheet_is_understood():
    told = read("\ufeffPrefix,Number,Name\r\n10.0.0.0/8, as64500 ,  Own   network \r\n", SYSTEMS)
    assert str(told.entries[0]) == "AS64500 Own network" and told.rows == 1


def test_applications_are_tried_before_they_are_kept(client, port):  # noqa: F811
    body = {"name": "library catalogue", "ports": "443", "addresses": "0.0.0.1"}
    tried = client.post("/api/v1/applications/try", body, JSON).json()
    assert (tried["octets"], tried["conversations"]) == (6000, 1) and tried["of_octets"] == 7500
    assert tried["now"] == [{"name": "web", "octets": 6000}]
    assert client.post("/api/v1/applications/try", {**body, "ports": "22"}, JSON).json()["conversations"] == 0
    made = client.post("/api/v1/applications", body, JSON)
    assert made.status_code == 201
    assert applications.names()[made.json()["number"]] == "library catalogue"
    assert applications.in_force().names[made.json()["number"]] == "library catalogue"
    is_problem(client.post("/api/v1/applications", body, JSON), 422, "already")
    is_problem(client.post("/api/v1/applications", {**body, "name": "web"}, JSON), 422, "already")
    is_problem(client.post("/api/v1/applications", {"name": "nothing"}, JSON), 422, "by what it is known")
    is_problem(client.post("/api/v1/applications", {"name": "x", "ports": "http"}, JSON), 422, "not a port")
    path = f"/api/v1/applications/{made.json()['id']}"
    assert client.put(path, {**body, "name": "catalogue"}, JSON).json()["name"] == "catalogue"
    assert [each["name"] for each in get(client, "applications")["own"]] == ["catalogue"]
    assert client.delete(path).status_code == 204 and get(client, "applications")["own"] == []


def mmdb(rows):
    """An MMDB file by an encoder that is not ours."""
    writer = MMDBWriter(6, "table", languages=["en"], ipv4_compatible=True)
    for prefix, record in rows:
        writer.insert_network(IPSet([prefix]), record)
    with NamedTemporaryFile(suffix=".mmdb") as file:
        writer.to_db_file(file.name)
        return Path(file.name).read_bytes()


def send_file(client, kind, data):
    return client.post(f"/api/v1/prefixtables/{kind}/file", data, "application/octet-stream")


def test_tables_are_loaded_from_binary_files(client, port):  # noqa: F811
    systems = mmdb(
        [
            ("198.51.100.0/24", {"autonomous_system_number": 64496, "autonomous_system_organization": "Wellmere"}),
            ("2001:db8:f00d::/48", {"asn": "AS64497", "name": "Brightwater Video"}),
            ("203.0.113.0/24", {"something": "else"}),
        ]
    )
    told = send_file(client, "systems", systems)
    assert told.status_code == 200 and told.json()["rows"] == 2
    names = {"names": {"en": "Teravo", "de": "Terau"}}
    places = mmdb(
        [
            (
                "198.51.100.16/28",
                {"city": names, "country": {"iso_code": "EA"}, "location": {"latitude": -12.5, "longitude": 30.0}},
            ),
            ("2001:db8:f00d::/48", {"country": {"names": {"en": "Northland"}}}),
        ]
    )
    told = send_file(client, "places", places)
    assert told.status_code == 200, told.content
    assert told.json()["rows"] == 2
    far(port, ("198.51.100.20", 700, 0), ("2001:db8:f00d::9", 90, 0))
    assert [row["name"] for row in ask(client, by="AS")["rows"]] == ["AS64496", "AS64497"]
    rows = ask(client, by="place")["rows"]
    assert [(row["name"], row["where"]) for row in rows] == [("Teravo", [-12.5, 30.0]), ("Northland", None)]


def test_files_that_are_no_tables_are_refused(client, user):
    data = mmdb([("198.51.100.0/24", {"something": "else"})])
    is_problem(send_file(client, "systems", data), 422, "tells of autonomous systems")
    is_problem(send_file(client, "places", data[: len(data) // 3] + data[-200:]), 422, "MMDB")
    is_problem(send_file(client, "places", b"\xff\xfe\x00nothing"), 422, "neither MMDB nor text")
    assert send_file(client, "systems", SYSTEMS_CSV.encode()).status_code == 200
    is_problem(send_file(client, "systems", b""), 422, "first line")
