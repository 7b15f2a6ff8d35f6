"""Whether a TCP port is open: real sockets on loopback."""

import asyncio
import socket

import pytest

from bench.ports import free_port
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.tcp import connect


@pytest.mark.parametrize(("family", "host"), [(socket.AF_INET, "127.0.0.1"), (socket.AF_INET6, "::1")])
async def test_an_open_port_is_timed_and_left_at_once(family, host):
    left = asyncio.Event()

    async def serve(reader, writer):
        await reader.read()
        left.set()
        writer.close()

    server = await asyncio.start_server(serve, host, 0)
    port = server.sockets[0].getsockname()[1]
    assert 0 < await connect(family, host, port) < 1
    await asyncio.wait_for(left.wait(), 5)
    server.close()


async def test_a_closed_port_is_told_from_silence():
    port = free_port()
    with pytest.raises(Fault, match=f"TCP port {port} is closed: the host answers") as met:
        await connect(socket.AF_INET, "127.0.0.1", port, tries=3)
    assert met.value.kind is FaultKind.PORT_CLOSED


async def test_silence_is_asked_again_and_said(monkeypatch):
    asked = []

    async def silent(*args, **more):
        asked.append(args)
        await asyncio.sleep(10)

    monkeypatch.setattr(asyncio, "open_connection", silent)
    with pytest.raises(Fault, match="no answer on TCP 7 in 2 tries") as met:
        await connect(socket.AF_INET, "127.0.0.1", 7, timeout=0.05, tries=2)
    assert met.value.kind is FaultKind.NO_ANSWER and len(asked) == 2


async def test_what_cannot_be_sent_says_why(monkeypatch):
    async def unreachable(*args, **more):
        raise OSError(101, "Network is unreachable")

    monkeypatch.setattr(asyncio, "open_connection", unreachable)
    with pytest.raises(Fault, match="cannot be reached from here") as met:
        await connect(socket.AF_INET, "127.0.0.1", 7)
    assert met.value.kind is FaultKind.UNREACHABLE
