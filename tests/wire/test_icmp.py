"""Echoes, from the kernel of this machine; no other address is ever asked."""

import asyncio
import socket

import pytest

from lumtar.wire import icmp
from lumtar.wire.faults import Fault, FaultKind

pytestmark = pytest.mark.skipif(not icmp.may_ping(), reason="this machine does not let its users send ICMP")


@pytest.fixture
async def pinger():
    made = icmp.Pinger()
    yield made
    made.close()


def test_the_checksum_is_that_of_the_standard():
    """RFC 1071 section 3: the words 0001 f203 f4f5 f6f7 sum to ddf2."""
    assert icmp.checksum(bytes.fromhex("0001f203f4f5f6f7")) == ~0xDDF2 & 0xFFFF
    request = icmp.echo_request(socket.AF_INET, 7, 9, b"odd")
    assert icmp.checksum(request) == 0


@pytest.mark.parametrize(("family", "address"), [(socket.AF_INET, "127.0.0.9"), (socket.AF_INET6, "::1")])
async def test_an_echo_comes_back(pinger, family, address):
    assert await pinger.ping(family, address) > 0


async def test_many_at_once_and_each_gets_its_own(pinger):
    addresses = [f"127.0.4.{n}" for n in range(1, 201)]
    took = await asyncio.gather(*(pinger.ping(socket.AF_INET, each) for each in addresses))
    assert len(took) == 200


async def test_no_echo_is_said_in_words(pinger, monkeypatch):
    monkeypatch.setitem(icmp.ECHO, socket.AF_INET, 0)
    with pytest.raises(Fault, match="no echo in 2 tries") as met:
        await pinger.ping(socket.AF_INET, "127.0.0.9", timeout=0.1)
    assert met.value.kind is FaultKind.NO_ANSWER


async def test_without_the_right_to_it_says_so(pinger, monkeypatch):
    def refuse(family):
        raise PermissionError

    monkeypatch.setattr(icmp, "open_socket", refuse)
    with pytest.raises(Fault, match="does not let Lumtar send ICMP"):
        await pinger.ping(socket.AF_INET, "127.0.0.9")
    assert not icmp.may_ping()
