"""Asking a controller over HTTPS: what it tells, and every way in which it can fail."""

import json
import threading
from contextlib import asynccontextmanager, contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest

from lumtar.core.controllers import DEVICE, KINDS, Listing, SignIn
from lumtar.core.refusal import Refusal
from lumtar.wire import rest
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.json_paths import check_paths, compiled
from lumtar.wire.rest import Rest
from tests.lab.overlay import LISTS, SECRET, SIGN_IN, overlay

PLAIN = Listing("/list", "$[*]", {"name": "$.name", "address": "$.address"})


@pytest.fixture
def running():
    with overlay() as made:
        yield made


@asynccontextmanager
async def asked(base, authority="", sign_in=SIGN_IN, secret=SECRET):
    async with Rest(base, sign_in, secret, authority) as controller:
        await controller.sign_in()
        yield controller


async def failing(*args, **more):
    with pytest.raises(Fault) as failed:
        async with asked(*args, **more) as controller:
            await controller.read(DEVICE, LISTS["device"])
    return failed.value


async def test_every_list_of_the_stand_in(running):
    _, base, authority, devices = running
    async with asked(base, authority) as controller:
        told = {name: await controller.read(KINDS[name], listing) for name, listing in LISTS.items()}
    assert not any(each.wrong for each in told.values())
    assert {row["name"] for row in told["device"].rows} == set(devices)
    assert len(told["tunnel"].rows) == 6 and {row["state"] for row in told["tunnel"].rows} == {"established"}
    assert {row["about"]: row["transport"] for row in told["policy"].rows}["voice"] == "Transport A"
    assert told["alarm"].rows == []


async def test_wrong_passwords_and_certificates_that_are_not_trusted(running):
    _, base, authority, _ = running
    refused = await failing(base, authority, secret={**SECRET, "password": "wrong"})
    assert refused.kind == FaultKind.CREDENTIAL and "status 401" in refused.words
    assert "self-signed certificate" in (await failing(base)).words
    assert "not to be read as PEM" in (await failing(base, "no certificate")).words


async def test_a_certificate_that_has_ended():
    with overlay(days=-1.0) as (_, base, authority, _):
        assert "certificate has expired" in (await failing(base, authority)).words


async def test_garbage_errors_and_half_an_answer(running):
    controller, base, authority, _ = running
    controller.manner.garbage = True
    assert (await failing(base, authority)).words == "what it says at /api/edges is no JSON"
    controller.manner.garbage, controller.manner.status = False, 503
    assert "status 503" in (await failing(base, authority)).words
    controller.manner.status, controller.manner.half = 200, True
    async with asked(base, authority) as one:
        assert len((await one.read(DEVICE, LISTS["device"])).rows) == 2


async def test_one_that_takes_too_long(running, monkeypatch):
    monkeypatch.setattr(rest, "ANSWER_S", 0.3)
    controller, base, authority, _ = running
    controller.manner.slow_s = 2.0
    assert (await failing(base, authority)).kind == FaultKind.NO_ANSWER


async def test_nobody_there():
    assert "port 9 is closed" in (await failing("http://127.0.250.9:9")).words


@contextmanager
def saying(answers):
    """A server that gives these answers by path: status, headers, body."""

    class Handler(BaseHTTPRequestHandler):
        seen = []

        def do_GET(self):
            self.seen.append((self.path, dict(self.headers)))
            status, headers, body = answers[self.path]
            self.send_response(status)
            for name, value in {"Content-Length": str(len(body)), **headers}.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *args):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}", Handler.seen
    finally:
        server.shutdown()
        server.server_close()


async def listed(answers, listing=PLAIN, sign_in=SignIn(), secret=None):
    with saying(answers) as (base, seen):
        async with asked(base, sign_in=sign_in, secret=secret or {}) as controller:
            return await controller.read(DEVICE, listing), seen


def page(*names, more=None):
    rows = [{"name": name, "address": "192.0.2.1"} for name in names]
    return 200, {}, json.dumps({"rows": rows, "next": more} if more is not None else rows).encode()


@pytest.mark.parametrize(
    ("sign_in", "secret", "header"),
    [
        (SignIn("bearer"), {"token": "t0p"}, ("Authorization", "Bearer t0p")),
        (SignIn("header", "X-Key"), {"token": "k3y"}, ("X-Key", "k3y")),
        (SignIn("basic"), {"user": "a", "password": "b"}, ("Authorization", "Basic YTpi")),
    ],
)
async def test_ways_to_sign_in(sign_in, secret, header):
    told, seen = await listed({"/list": page("a")}, sign_in=sign_in, secret=secret)
    assert [row["name"] for row in told.rows] == ["a"]
    assert seen[0][1].get(header[0]) == header[1]


PAGED = Listing("/list", "$.rows[*]", dict(PLAIN.fields), "$.next")


async def test_pages_are_followed_at_the_same_place_only():
    told, seen = await listed({"/list": page("a", more="/list?2"), "/list?2": page("b", more="")}, PAGED)
    assert [row["name"] for row in told.rows] == ["a", "b"] and [path for path, _ in seen] == ["/list", "/list?2"]
    with pytest.raises(Fault, match="somewhere else"):
        await listed({"/list": page("a", more="https://elsewhere.example/list")}, PAGED)
    with pytest.raises(Fault, match="lead back to /list"):
        await listed({"/list": page("a", more="/list")}, PAGED)


async def test_redirections_are_not_followed():
    with pytest.raises(Fault, match=r"sends /list elsewhere \(http://127.0.0.2/\)"):
        await listed({"/list": (302, {"Location": "http://127.0.0.2/"}, b"")})


async def test_answers_that_are_too_large_or_too_deep(monkeypatch):
    monkeypatch.setattr(rest, "MOST_OCTETS", 1 << 20)
    with pytest.raises(Fault, match="larger than 1 MiB"):
        await listed({"/list": (200, {}, b"[" + b" " * (2 << 20) + b"]")})
    deep = b'{"a":' * 400 + b"1" + b"}" * 400
    with pytest.raises(Fault, match="nested too deeply"):
        await listed({"/list": (200, {}, deep)}, Listing("/list", "$..rows[*]", PLAIN.fields))
    with pytest.raises(Fault, match="no JSON"):
        await listed({"/list": (200, {}, b"[" * 200_000)})


@pytest.mark.parametrize("path", ["", "items", "$.[", "$[?match(@.a, '(a+)+')]", "$." + "a" * 400])
def test_paths_that_are_refused(path):
    with pytest.raises(Refusal, match="is no JSONPath"):
        compiled(path)
    with pytest.raises(Refusal):
        check_paths(Listing("/x", path, {}))
