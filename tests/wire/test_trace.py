"""Traces of routes: what the kernel tells of ICMP errors, and the shortest way there is."""

import ipaddress
import struct

import pytest

from lumtar.wire import trace as tracing
from lumtar.wire.trace import EXTENDED_ERROR, Told, understood

V4, V6 = (0, 11), (41, 25)


def error(origin, type_, sender):
    packed = ipaddress.ip_address(sender).packed
    family = 2 if len(packed) == 4 else 10
    where = struct.pack("HH", family, 0) + (packed if len(packed) == 4 else bytes(4) + packed) + bytes(8)
    return EXTENDED_ERROR.pack(113, origin, type_, 0, 0, 0, 0) + where


@pytest.mark.parametrize(
    ("kind", "data", "told"),
    [
        (V4, error(2, 11, "192.0.2.1"), Told("192.0.2.1", True)),
        (V4, error(2, 3, "192.0.2.9"), Told("192.0.2.9", False)),
        (V6, error(3, 3, "2001:db8::1"), Told("2001:db8::1", True)),
        (V6, error(3, 1, "2001:db8::9"), Told("2001:db8::9", False)),
        (V4, error(1, 0, "192.0.2.1"), None),
        (V4, error(2, 11, "192.0.2.1")[:18], None),
        (V4, b"", None),
        ((1, 37), bytes(48), None),
    ],
)
def test_errors_of_the_kernel_tell_who_answered_and_whether_it_was_on_the_way(kind, data, told):
    assert understood([(1, 37, bytes(16)), (*kind, data)]) == told


@pytest.mark.parametrize("address", ["127.0.0.9", "::1"])
async def test_what_is_here_is_one_hop_away(address):
    (hop,) = await tracing.trace(address)
    assert hop.address == address and 0 < hop.ms < 1000


async def test_hops_that_do_not_answer_end_a_trace_after_some(monkeypatch):
    told = iter(["192.0.2.1", "", "192.0.2.3", "", "", "", "", "192.0.2.9"])

    async def ask(outlet):
        return tracing.Hop(next(told), None), False

    monkeypatch.setattr(tracing, "_ask", ask)
    assert [hop.address for hop in await tracing.trace("127.0.0.1")] == ["192.0.2.1", "", "192.0.2.3"]


async def test_a_hop_that_is_silent_takes_its_time_and_no_more(monkeypatch):
    monkeypatch.setattr(tracing, "TIMEOUT_S", 0.05)

    async def send(outlet):
        return

    monkeypatch.setattr(tracing, "_send", send)
    assert await tracing.trace("127.0.0.1") == []
