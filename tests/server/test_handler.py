"""How requests pass through a real server: bodies of any form, many at once, streams that are drawn piece by piece."""

import asyncio
import http.client
import json
import threading
from concurrent.futures import ThreadPoolExecutor
from urllib.parse import urlsplit

import pytest
from django.contrib.auth.models import User
from django.core.handlers.asgi import ASGIRequest
from django.http import HttpResponse, StreamingHttpResponse

from lumtar.domain.accounts.services import new_token
from lumtar.server.handler import PIECE, THREADS, Handler
from tests.network import fill

pytestmark = pytest.mark.django_db(transaction=True)


def ask(address, method, path, body=None, headers=None):
    line = http.client.HTTPConnection(urlsplit(address).netloc, timeout=30)
    line.request(method, f"/api/v1/{path}", body, headers or {}, encode_chunked=not isinstance(body, str | None))
    answer = line.getresponse()
    return answer.status, answer.read()


def test_a_body_may_come_in_pieces_of_an_untold_length(address):
    headers = {"Content-Type": "application/json", "Transfer-Encoding": "chunked"}
    pieces = iter([b'{"name": "nobody",', b' "password": "none of these words"}'])
    status, told = ask(address, "POST", "session", pieces, headers)
    assert (status, "Wrong name or password" in json.loads(told)["detail"]) == (401, True)


def test_more_at_once_than_there_are_threads_are_all_answered(address, settled):
    token = new_token(User.objects.get_or_create(username="anna", defaults={"is_superuser": True})[0])
    calls = THREADS + 10
    with ThreadPoolExecutor(calls) as callers:
        told = list(
            callers.map(
                lambda _: ask(address, "GET", "sites", headers={"Authorization": f"Bearer {token}"}), range(calls)
            )
        )
    assert told == [(200, b"[]")] * calls


class Line:
    """An ASGI server with one reader, who leaves after so many pieces."""

    def __init__(self, leaves_after=10**9):
        self.sent, self.left = [], asyncio.Event()
        self._leaves_after = leaves_after
        self._asked = False

    async def receive(self):
        if not self._asked:
            self._asked = True
            return {"type": "http.request", "body": b"", "more_body": False}
        await self.left.wait()
        return {"type": "http.disconnect"}

    async def send(self, message):
        self.sent.append(message)
        if len(self.bodies) >= self._leaves_after:
            self.left.set()
            await asyncio.sleep(30)

    @property
    def bodies(self):
        return [message["body"] for message in self.sent if message.get("body")]


async def answered(response, line):
    """Let a handler answer with this."""

    class Fixed(Handler):
        def get_response(self, request):
            assert isinstance(request, ASGIRequest)
            return response

    scope = {"type": "http", "method": "GET", "path": "/", "query_string": b"", "headers": []}
    await Fixed()(scope, line.receive, line.send)
    return line


async def test_a_short_answer_is_sent_whole():
    line = await answered(HttpResponse(b"short", status=418), Line())
    assert (line.sent[0]["status"], line.bodies) == (418, [b"short"])


async def test_a_source_is_drawn_in_one_thread_and_in_large_pieces():
    threads = set()

    def source():
        for number in range(30_000):
            threads.add(threading.get_ident())
            yield f"{number:09}\n".encode()

    line = await answered(StreamingHttpResponse(source()), Line())
    assert b"".join(line.bodies) == b"".join(f"{number:09}\n".encode() for number in range(30_000))
    assert len(threads) == 1 and threads != {threading.get_ident()}
    assert len(line.bodies) <= 2 * (300_000 // PIECE + 1)


async def test_a_reader_who_leaves_ends_the_source():
    drawn, ended = [], []

    def source():
        try:
            while True:
                drawn.append(1)
                yield bytes(PIECE)
        finally:
            ended.append(threading.get_ident())

    async with asyncio.timeout(20):
        await answered(StreamingHttpResponse(source()), Line(leaves_after=3))
    assert ended and len(drawn) < 10


async def test_a_reader_who_leaves_ends_asynchronous_work():
    ended = []

    async def source():
        try:
            while True:
                yield b"still here"
                await asyncio.sleep(0)
        finally:
            ended.append(True)

    async with asyncio.timeout(20):
        await answered(StreamingHttpResponse(source()), Line(leaves_after=3))
    assert ended


async def test_a_source_that_breaks_is_not_taken_for_a_whole_answer():
    def source():
        yield bytes(PIECE)
        raise RuntimeError("the disk is gone")

    line = Line()
    with pytest.raises(RuntimeError, match="the disk is gone"):
        await answered(StreamingHttpResponse(source()), line)
    assert line.sent[-1].get("more_body"), "the end was not said"


def test_streams_that_are_broken_off_give_their_connections_back(address, settled):
    """Whoever types changes a rehearsal with each letter and leaves the one before: none may keep its connection."""
    fill(0.5)
    token = new_token(User.objects.get_or_create(username="anna", defaults={"is_superuser": True})[0])
    headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/json"}
    body = json.dumps({"name": "x", "measure": "load", "levels": [{"severity": 4, "limit": 1, "clear": 0}], "days": 1})
    for number in range(40):
        line = http.client.HTTPConnection(urlsplit(address).netloc, timeout=30)
        line.request("POST", "/api/v1/rules/rehearsal/steps", body, headers)
        if number % 2:
            line.getresponse().read(10)
        line.close()
    status, told = ask(address, "POST", "rules/rehearsal/steps", body, headers)
    assert status == 200 and "rehearsal" in json.loads(told.splitlines()[-1])
    assert ask(address, "GET", "devices", headers=headers)[0] == 200
