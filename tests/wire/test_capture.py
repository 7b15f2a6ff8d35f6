"""Captured packets: what scapy reads of the file is what was sent, and what goes wrong is said."""

import socket
import threading
import time
from contextlib import closing
from io import BytesIO

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scapy.layers.inet import UDP
from scapy.utils import PcapNgReader, RawPcapNgReader

from bench.ports import free_port
from lumtar.core import pcapng
from lumtar.core.refusal import Refusal
from lumtar.wire.capture import Tap, compiled, interfaces


def may_capture():
    try:
        socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0).close()
    except PermissionError:
        return False
    return True


with_the_right = pytest.mark.skipif(not may_capture(), reason="capturing needs the right CAP_NET_RAW")


@given(st.lists(st.tuples(st.binary(max_size=90), st.integers(0, 70_000), st.integers(0, 2**62))))
def test_a_file_has_what_was_put_into_it(packets):
    file = pcapng.begin("lo", pcapng.ETHERNET, 256, "udp port 53")
    file += b"".join(pcapng.packet(at, data, max(length, len(data))) for data, length, at in packets)
    read = list(RawPcapNgReader(BytesIO(file))) if packets else []
    assert [data for data, _ in read] == [data for data, _, _ in packets]
    assert [told.wirelen for _, told in read] == [max(length, len(data)) for data, length, _ in packets]
    assert [told.tshigh << 32 | told.tslow for _, told in read] == [at for _, _, at in packets]
    assert all(told.tsresol == 10**9 for _, told in read)


def test_filters_are_compiled_and_mistakes_are_told():
    assert compiled("") == b"" and len(compiled("udp port 53")) % 8 == 0
    with pytest.raises(Refusal, match=r"cannot be understood: .*syntax error"):
        compiled("udp prot 53")


@with_the_right
def test_what_is_sent_is_captured_once_and_only_what_the_filter_lets_pass():
    port, other = free_port(), free_port()

    def send():
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as outlet:
            for number in range(5):
                for goal in (port, other):
                    outlet.sendto(b"packet %d " % number + bytes(1000), ("127.0.0.1", goal))

    with closing(Tap("lo", f"udp dst port {port}", 100)) as tap:
        threading.Timer(0.1, send).start()
        found = []
        until = time.monotonic() + 5
        for packet in tap.packets():
            if packet is not None:
                found.append(packet)
            if len(found) == 5 or time.monotonic() > until:
                break
        quiet = next(tap.packets())
        assert quiet is None and tap.dropped() == 0
    file = pcapng.begin("lo", tap.link, 100, "") + b"".join(pcapng.packet(p.at_ns, p.data, p.length) for p in found)
    read = PcapNgReader(BytesIO(file)).read_all()
    assert [each[UDP].dport for each in read] == [port] * 5
    assert all(len(p.data) == 100 and p.length > 1000 and abs(p.at_ns / 1e9 - time.time()) < 10 for p in found)


def test_what_cannot_be_captured_is_refused_with_the_reason(monkeypatch):
    assert "lo" in interfaces()
    with pytest.raises(Refusal, match="no interface nowhere"):
        Tap("nowhere", "", 100)

    def denied(*given):
        raise PermissionError(1, "Operation not permitted")

    monkeypatch.setattr("lumtar.wire.capture.socket.socket", denied)
    with pytest.raises(Refusal, match="lacks the right CAP_NET_RAW"):
        Tap("lo", "", 100)
    monkeypatch.setattr("lumtar.wire.capture.ctypes.util.find_library", lambda name: None)
    with pytest.raises(Refusal, match="install the package"):
        compiled("udp")
