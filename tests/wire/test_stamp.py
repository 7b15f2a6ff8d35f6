"""Test packets of STAMP, held to an encoder that is not ours, and the times that the kernel tells."""

import select
import socket
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scapy.contrib.stamp import STAMPSessionReflectorTestUnauthenticated, STAMPSessionSenderTestUnauthenticated

from lumtar.wire import stamp
from lumtar.wire.ber import Malformed
from lumtar.wire.stamped import StampedSocket

NOW = 1_795_440_000_123_456_789


def test_a_probe_is_read_by_another_implementation():
    data = stamp.probe(7, 4711, NOW, stamp.error_estimate(0.001, is_synchronised=True), 200)
    told = STAMPSessionSenderTestUnauthenticated(data)
    assert len(data) == 200 and (told.seq, told.ssid) == (7, 4711)
    assert told.err_estimate.S == 1 and told.err_estimate.Z == 0
    assert told.ts == pytest.approx(NOW / 1e9 + stamp.NTP_EPOCH, abs=1e-6)
    (padding,) = told.tlv_objects
    assert (padding.type, padding.len) == (stamp.PADDING, 152)


def test_the_answer_of_another_implementation_is_read():
    theirs = STAMPSessionReflectorTestUnauthenticated(
        seq=7, ts=NOW / 1e9 + stamp.NTP_EPOCH, ssid=4711, ts_rx=NOW / 1e9 + stamp.NTP_EPOCH - 0.25, seq_sender=7, ttl_sender=254
    )  # fmt: skip
    told = stamp.answer(bytes(theirs))
    assert (told.sequence, told.session, told.ttl) == (7, 4711, 254)
    sent, received = (stamp.nanoseconds(each, told.error, NOW) for each in (told.sent, told.received))
    assert sent == pytest.approx(NOW, abs=2000) and sent - received == pytest.approx(250_000_000, abs=2000)


def test_our_answer_is_read_by_another_implementation():
    data = stamp.reflected(stamp.probe(9, 12, NOW, 1, 100), NOW + 5_000_000, NOW + 6_000_000, 3, 255)
    told = STAMPSessionReflectorTestUnauthenticated(data)
    assert len(data) == 100 and (told.seq, told.seq_sender, told.ssid, told.ttl_sender) == (9, 9, 12, 255)
    assert told.ts - told.ts_rx == pytest.approx(0.001, abs=1e-6)
    assert told.tlv_objects[0].flags == 0, "padding is an extension that is known"


def test_a_sender_before_the_extensions_is_answered_as_well():
    """TWAMP's sender (RFC 5357) has padding after 14 octets, and no identifier of its session."""
    older = stamp.SENDER.pack(3, stamp.ntp(NOW), 1, 0) + bytes(56)
    told = stamp.answer(stamp.reflected(older, NOW, NOW, 1, 64))
    assert (told.sequence, told.session) == (3, 0)
    unknown = stamp.SENDER.pack(3, stamp.ntp(NOW), 1, 0) + stamp.TLV.pack(0, 200, 2) + b"ab"
    assert stamp.reflected(unknown, NOW, NOW, 1, 64)[44] == stamp.UNRECOGNISED


@pytest.mark.parametrize("data", [b"", bytes(43), bytes(9001)])
def test_what_is_no_test_packet_is_refused(data):
    with pytest.raises(Malformed):
        stamp.reflected(data, NOW, NOW, 1, 64)
    if len(data) < stamp.BASE:
        with pytest.raises(Malformed):
            stamp.answer(data)


@given(st.integers(0, 2**33 * 10**9), st.integers(-(10**15), 10**15))
def test_time_stamps_come_back_in_any_era(at, off):
    near = max(0, at + off)
    assert stamp.nanoseconds(stamp.ntp(at), 1, near) == pytest.approx(at, abs=2)


@given(st.floats(1e-9, 1e6))
def test_an_error_estimate_is_never_less_than_what_is_meant(seconds):
    error = stamp.error_estimate(seconds, is_synchronised=False)
    assert seconds <= stamp.seconds_of(error) * (1 + 1e-9) and stamp.seconds_of(error) <= max(
        2.1 * seconds, 2**-32 * 256
    )


def test_time_stamps_of_ptp_are_read():
    assert stamp.nanoseconds(1_795_440_000 << 32 | 500_000_000, stamp.PTP | 1, 0) == 1_795_440_000_500_000_000


@pytest.mark.parametrize("host", ["127.0.0.1", "::1"])
def test_the_kernel_says_when_a_datagram_left_and_arrived(host):
    one, other = StampedSocket(host), StampedSocket(host)
    sender = one.port
    try:
        before = time.time_ns()
        numbers = [one.send(b"hello", (host, other.port), 46 << 2) for _ in range(3)]
        select.select([other], [], [], 5)
        arrived = list(other.arrivals())
        left = dict(one.departures())
        after = time.time_ns()
    finally:
        one.close()
        other.close()
    assert numbers == [0, 1, 2] == sorted(left)
    assert [(each.data, each.sender[1], each.ttl) for each in arrived] == [(b"hello", sender, 255)] * 3
    for number, each in enumerate(arrived):
        assert before <= left[number] <= each.at_ns <= after


def test_an_address_that_is_taken_is_an_error():
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as taken:
        taken.bind(("127.0.0.1", 0))
        with pytest.raises(OSError, match="in use"):
            StampedSocket("127.0.0.1", taken.getsockname()[1])
