"""Captures: asked for by the API, done as the collector does them, downloaded as pcapng."""

import socket
import threading
import time
from datetime import timedelta
from io import BytesIO

import pytest
from django.test import Client
from django.utils import timezone
from scapy.layers.inet import UDP
from scapy.utils import PcapNgReader

from bench.ports import free_port
from lumtar.core.access import Role
from lumtar.domain.audit.models import AuditEntry
from lumtar.domain.flows import captures
from lumtar.domain.flows.models import Capture
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.models import Process
from lumtar.engine.collector.capturing import capture
from tests.server.calls import get, is_problem
from tests.server.test_access import person
from tests.wire.test_capture import with_the_right

pytestmark = pytest.mark.django_db
JSON = "application/json"


@pytest.fixture
def collector(user):
    now = timezone.now()
    return Process.objects.create(
        name="collector", kind="collector", started_at=now, beat_at=now, detail={"capture_interfaces": ["lo"]}
    )


def ask(client, **more):
    body = {"collector": "collector", "interface": "lo", "seconds": 1, "filter": "udp", **more}
    return client.post("/api/v1/captures", body, JSON)


@with_the_right
def test_packets_are_captured_and_downloaded(client, collector):
    port = free_port()
    made = ask(client, seconds=4, filter=f"udp dst port {port}", why="stranger 172.31.9.66")
    assert made.status_code == 201 and made.json()["state"] == "waiting"
    assert client.get(f"/api/v1/captures/{made.json()['id']}/file").status_code == 409
    row = captures.take("collector")
    assert row is not None and captures.take("collector") is None

    def send():
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as outlet:
            for _ in range(3):
                outlet.sendto(b"hello", ("127.0.0.1", port))

    threading.Timer(1.0, send).start()
    capture(row, threading.Event())
    told = get(client, "captures")
    assert told["places"] == [{"collector": "collector", "interfaces": ["lo"]}]
    assert (told["rows"][0]["state"], told["rows"][0]["packets"], told["rows"][0]["words"]) == (
        "done",
        3,
        "4 s are over.",
    )
    file = client.get(f"/api/v1/captures/{row.pk}/file")
    assert file["Content-Disposition"].endswith('.pcapng"')
    assert [each[UDP].dport for each in PcapNgReader(BytesIO(file.content)).read_all()] == [port] * 3
    assert Entry.objects.filter(text__contains="downloaded").exists() and AuditEntry.objects.exists()
    assert client.delete(f"/api/v1/captures/{row.pk}").status_code == 204 and not Capture.objects.exists()


@with_the_right
def test_a_capture_ends_when_it_is_full_or_stopped(client, collector):
    row = Capture.objects.get(pk=ask(client, seconds=60, most_octets=10_000).json()["id"])
    ending = threading.Event()

    def send():
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as outlet:
            until = time.monotonic() + 20
            while not ending.wait(0.002) and time.monotonic() < until:
                outlet.sendto(bytes(900), ("127.0.0.1", 9))

    sending = threading.Thread(target=send)
    sending.start()
    capture(row, threading.Event())
    ending.set()
    sending.join()
    row.refresh_from_db()
    assert row.words == "It has as many octets as were asked for." and 8_000 < len(row.data) <= 10_000
    other = Capture.objects.get(pk=ask(client, seconds=60).json()["id"])
    Capture.objects.filter(pk=other.pk).update(state="running")
    assert client.post(f"/api/v1/captures/{other.pk}/stop", {}, JSON).status_code == 204
    capture(other, threading.Event())
    other.refresh_from_db()
    assert other.state == "done" and other.words.startswith("Stopped after")


def test_what_goes_wrong_is_kept_with_its_reason(client, collector):
    row = Capture.objects.get(pk=ask(client, filter="udp prot").json()["id"])
    capture(row, threading.Event())
    row.refresh_from_db()
    assert row.state == "failed" and "cannot be understood" in row.words
    waiting = ask(client).json()["id"]
    assert client.post(f"/api/v1/captures/{waiting}/stop", {}, JSON).status_code == 204
    assert Capture.objects.get(pk=waiting).words == "Stopped before it began."
    lost = ask(client).json()["id"]
    Capture.objects.filter(pk=lost).update(state="running", begun_at=timezone.now() - timedelta(minutes=20))
    assert captures.take("collector") is None
    assert "went away" in Capture.objects.get(pk=lost).words


@with_the_right
def test_captures_end_with_the_collector(client, collector):
    row = Capture.objects.get(pk=ask(client, seconds=60).json()["id"])
    ending = threading.Event()
    ending.set()
    capture(row, ending)
    row.refresh_from_db()
    assert (row.state, row.words) == ("done", "The collector was stopped.")


def test_wrong_wishes_are_refused_and_old_captures_go(client, collector):
    is_problem(ask(client, collector="nobody"), 422, "no collector nobody")
    is_problem(ask(client, interface="eth9"), 422, "no interface eth9")
    is_problem(ask(client, seconds=601), 422, "1 to 600")
    is_problem(ask(client, longest=5), 422, "64 to 65,535")
    is_problem(ask(client, most_octets=5), 422, "10 kB to 64 MB")
    for _ in range(captures.MOST_AT_ONCE):
        assert ask(client).status_code == 201
    is_problem(ask(client), 422, "captures already")
    captures.forget_old(timezone.now() + timedelta(days=8))
    assert not Capture.objects.exists()


def test_only_engineers_of_the_whole_network_capture(collector):
    for role in (Role.VIEWER, Role.OPERATOR):
        who = Client(**person(f"one-{role}", role))
        assert who.get("/api/v1/captures").status_code == 403 and ask(who).status_code == 403
