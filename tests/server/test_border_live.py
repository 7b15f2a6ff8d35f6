"""The border as bytes on a connection to the real server, and what passes it on the way to a device."""

import contextlib
import http.client
import json
import time
from urllib.parse import urlsplit

import pytest
from django.contrib.auth.models import User
from django.db import connections

from lumtar.domain.accounts.services import new_token
from lumtar.domain.inventory.credentials import create
from tests.server.calls import is_problem, streamed

pytestmark = pytest.mark.django_db(transaction=True)
SIGN_IN = "/api/v1/session"


class TestCredentials:
    def test_a_stored_one_goes_where_it_may_and_nowhere_else(self, client):
        stored = create("Core", "v2c", {"community": "very-secret"}, ranges="127.0.0.0/24")
        told = {"address": "127.9.9.9", "credentials": [stored.pk]}
        answer = client.post("/api/v1/devices/try", told, "application/json")
        steps = [json.loads(line) for line in streamed(answer).splitlines()]
        words = [step["step"]["words"] for step in steps if "step" in step]
        assert "the credential Core is not sent to 127.9.9.9: it is for 127.0.0.0/24 only" in words
        added = client.post("/api/v1/devices", {"address": "127.9.9.9", "credential": stored.pk}, "application/json")
        is_problem(added, 422, "An administrator can allow it")


class TestBodies:
    """Against the real server, as bytes on a connection."""

    @pytest.fixture
    def wire(self, transactional_db, address):
        yield urlsplit(address)
        connections.close_all()

    def send(self, wire, path, size, headers=(), sent=None):
        line = http.client.HTTPConnection(wire.hostname, wire.port, timeout=20)
        line.putrequest("POST", path)
        for name, value in {"Content-Length": str(size), "Content-Type": "text/csv", **dict(headers)}.items():
            line.putheader(name, value)
        line.endheaders()
        with contextlib.suppress(OSError):
            line.send(b"x" * (size if sent is None else sent))
        answer = line.getresponse()
        return answer.status, answer.read()

    def test_strangers_upload_nothing(self, wire):
        # Refused as soon as the headers are there: the body is never waited for.
        began = time.monotonic()
        status, body = self.send(wire, "/api/v1/import/readings", 60 << 20, sent=0)
        assert status == 401 and b"Sign in" in body and time.monotonic() - began < 10

    def test_nobody_sends_more_than_is_taken(self, wire):
        user = User.objects.create_superuser("anna", password="a-good-long-word")
        known = {"Authorization": f"Bearer {new_token(user)}"}
        status, body = self.send(wire, "/api/v1/ownfields", 5 << 20, known)
        assert status == 413 and b"at most 4 MiB" in body
        status, _ = self.send(wire, SIGN_IN, 1 << 20)
        assert status == 413
        status, body = self.send(wire, "/api/v1/import/readings", 5 << 20, known)
        assert status == 422, body
