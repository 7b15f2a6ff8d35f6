"""The event stream of a real server: what is announced in the database reaches whoever watches."""

import http.client
import json
import threading
import time
import urllib.request
from contextlib import suppress
from urllib.parse import urlsplit

import pytest
from django.contrib.auth.models import User
from django.db import connection
from django.test import Client

from lumtar.domain.operation.services import announce
from lumtar.server.handler import THREADS
from lumtar.server.settings import POOL

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("settled")]


class Watcher(threading.Thread):
    """Reads the stream until it has seen so many events."""

    def __init__(self, address, cookie, number):
        super().__init__(daemon=True)
        self.seen = []
        self.ready = threading.Event()
        self._number = number
        self._line = http.client.HTTPConnection(urlsplit(address).netloc, timeout=15)
        self._line.request("GET", "/api/v1/events", headers={"Cookie": cookie})
        self.answer = self._line.getresponse()

    def leave(self):
        self._line.close()

    def run(self):
        # It ends with the line: the server goes before the last watcher does.
        with suppress(OSError, http.client.HTTPException):
            while len(self.seen) < self._number:
                line = self.answer.readline().decode()
                if not line:
                    return
                if line.startswith("data: "):
                    self.seen.append(json.loads(line[6:]))
                    self.ready.set()


def cookie():
    client = Client()
    client.force_login(User.objects.get_or_create(username="anna", defaults={"is_superuser": True})[0])
    return f"lumtar_session={client.cookies['lumtar_session'].value}"


def watch(address, number):
    """A watcher that surely listens: the stream begins by saying that everything may have changed."""
    watcher = Watcher(address, cookie(), number)
    watcher.start()
    for _ in range(300):
        announce("hours")
        if watcher.ready.wait(0.1):
            return watcher
    raise AssertionError("the stream says nothing")


def test_strangers_are_told_nothing(address):
    line = http.client.HTTPConnection(urlsplit(address).netloc, timeout=5)
    line.request("GET", "/api/v1/events")
    assert line.getresponse().status == 401


def test_everybody_who_watches_hears_it(address):
    watchers = [watch(address, 500) for _ in range(3)]
    announce("alarms", [7, 8])
    announce("readings", list(range(9999)))
    limit = time.monotonic() + 20
    wanted = [{"topic": "alarms", "ids": [7, 8]}, {"topic": "readings"}]
    while time.monotonic() < limit and not all(all(each in watcher.seen for each in wanted) for watcher in watchers):
        time.sleep(0.05)
    for watcher in watchers:
        assert [each for each in watcher.seen if each["topic"] in ("alarms", "readings")] == wanted


def test_those_who_only_watch_keep_no_thread_and_no_connection_to_the_database(address):
    watchers = [Watcher(address, cookie(), 500) for _ in range(max(THREADS, POOL["max_size"]) + 4)]
    assert [watcher.answer.status for watcher in watchers] == [200] * len(watchers)
    with urllib.request.urlopen(f"{address}/api/v1/health", timeout=5) as answer:
        assert answer.status == 200
    for watcher in watchers:
        watcher.leave()


def test_the_first_visitor_after_the_database_was_away_is_answered(address):
    def call():
        with urllib.request.urlopen(f"{address}/api/v1/session", timeout=10) as answer:
            assert answer.status == 200

    callers = [threading.Thread(target=call) for _ in range(8)]
    for caller in callers:
        caller.start()
    for caller in callers:
        caller.join()
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity"
            " WHERE datname = current_database() AND pid <> pg_backend_pid()"
        )
    call()


def test_the_stream_survives_the_database_going_away(address):
    watcher = watch(address, 500)
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'LISTEN%%' AND datname = current_database()"
        )
    limit = time.monotonic() + 30
    while time.monotonic() < limit and {"topic": "everything"} not in watcher.seen[1:]:
        announce("logbook")
        time.sleep(0.1)
    topics = [each["topic"] for each in watcher.seen]
    assert "health" in topics, "it says that something is the matter"
    assert "everything" in topics, "and once it is back, that everything may have changed"
