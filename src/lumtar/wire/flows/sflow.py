"""sFlow version 5 (sFlow.org, July 2004): samples of packets with the beginnings of their frames, and counters of interfaces."""

import ipaddress
import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lumtar.core.flows.records import MAPPED, Records, empty
from lumtar.wire.ber import Malformed
from lumtar.wire.flows.exporters import Domain, Exporters

FLOW, COUNTERS, FLOW_EXPANDED, COUNTERS_EXPANDED = 1, 2, 3, 4
RAW_HEADER, SAMPLED_V4, SAMPLED_V6, GENERIC_INTERFACE = 1, 3, 4, 1
ETHERNET, IP_V4, IP_V6 = 1, 11, 12
"""Of header_protocol, those that are read."""
TYPE_V4, TYPE_V6, VLAN_TAGS = 0x0800, 0x86DD, (0x8100, 0x88A8, 0x9100)
TCP, UDP = 6, 17
HEADER_OCTETS = 128
"""Of a frame that are looked at: Ethernet, tags, IP and ports fit many times over."""
MOST_SAMPLES, MOST_RECORDS = 1_000, 200
UINT = struct.Struct(">I")
ONE_PORT = 0
"""The format of an output interface that is one; other formats are a reason why it was dropped, or how many there were."""


@dataclass(frozen=True, slots=True)
class InterfaceCounters:
    """The counters of an interface, as an exporter sends them of its own accord (generic interface counters)."""

    if_index: int
    in_octets: int
    out_octets: int


@dataclass(slots=True)
class Samples:
    """Samples of packets that were received and not been looked at yet: one row for each."""

    domains: list[Domain] = field(default_factory=list)
    sent: list[float] = field(default_factory=list)
    numbers: list[tuple[int, int, int, int, int]] = field(default_factory=list)
    """Sampling rate, input, output, octets of the frame, and the protocol of its header."""
    headers: list[bytes] = field(default_factory=list)
    counters: list[tuple[Domain, InterfaceCounters]] = field(default_factory=list)


class _Reader:
    """Takes XDR (RFC 4506) apart."""

    __slots__ = ("at", "data", "end")

    def __init__(self, data: bytes, at: int = 0, end: int | None = None) -> None:
        self.data, self.at, self.end = data, at, len(data) if end is None else end

    def number(self) -> int:
        if self.end - self.at < 4:
            raise Malformed("it is cut short")
        (value,) = UINT.unpack_from(self.data, self.at)
        self.at += 4
        return int(value)

    def octets(self, length: int) -> bytes:
        padded = (length + 3) & ~3
        if length < 0 or padded > self.end - self.at:
            raise Malformed(f"it says that {length} octets follow, and {self.end - self.at} do")
        found = self.data[self.at : self.at + length]
        self.at += padded
        return found

    def inner(self) -> "_Reader":
        length = self.number()
        if length > self.end - self.at:
            raise Malformed(f"it says that {length} octets follow, and {self.end - self.at} do")
        found = _Reader(self.data, self.at, self.at + length)
        self.at += length
        return found


def take(data: bytes, address: str, exporters: Exporters, samples: Samples, now: float) -> None:
    """Take a datagram apart: its samples wait to be looked at.

    Raises
    ------
    Malformed
    """
    reader = _Reader(data)
    if reader.number() != 5:
        raise Malformed("it is of another version of sFlow than 5")
    kind = reader.number()
    if kind not in (1, 2):
        raise Malformed("its agent has no address")
    agent = str(ipaddress.ip_address(reader.octets(4 if kind == 1 else 16)))
    sub_agent, sequence, _, count = (reader.number() for _ in range(4))
    if count > MOST_SAMPLES:
        raise Malformed(f"it says that it has {count} samples")
    domain = exporters.domain(address, f"sflow {agent}", sub_agent)
    if domain is None:
        raise Malformed("there are too many agents")
    domain.datagrams += 1
    domain.count(sequence, 1)
    for _ in range(count):
        what = reader.number()
        sample = reader.inner()
        if what in (FLOW, FLOW_EXPANDED):
            _flow_sample(sample, domain, samples, now, is_expanded=what == FLOW_EXPANDED)
        elif what in (COUNTERS, COUNTERS_EXPANDED):
            _counter_sample(sample, domain, samples, is_expanded=what == COUNTERS_EXPANDED)


def _flow_sample(sample: _Reader, domain: Domain, samples: Samples, now: float, *, is_expanded: bool) -> None:
    sample.number()
    for _ in range(2 if is_expanded else 1):
        sample.number()
    rate, _, _ = sample.number(), sample.number(), sample.number()
    into, out = (_port(sample, is_expanded=is_expanded) for _ in range(2))
    for what, record in _records(sample):
        if what == RAW_HEADER:
            protocol, frame, stripped = record.number(), record.number(), record.number()
            header = record.octets(record.number())
            # What was stripped before, as the frame check sequence, is part of the frame all the same; counters count it.
            del stripped
            _add(domain, samples, now, (rate, into, out, frame, protocol), header)
            return
        if what in (SAMPLED_V4, SAMPLED_V6):
            octets, protocol = record.number(), record.number()
            size = 4 if what == SAMPLED_V4 else 16
            source, destination = record.octets(size), record.octets(size)
            ports, flags, tos = (record.number(), record.number()), record.number(), record.number()
            header = _as_packet(source, destination, protocol, ports, flags, tos)
            _add(domain, samples, now, (rate, into, out, octets, IP_V4 if size == 4 else IP_V6), header)
            return


def _add(domain: Domain, samples: Samples, now: float, numbers: tuple[int, int, int, int, int], header: bytes) -> None:
    samples.domains.append(domain)
    samples.sent.append(now)
    samples.numbers.append(numbers)
    samples.headers.append(header[:HEADER_OCTETS].ljust(HEADER_OCTETS, b"\0"))


def _port(sample: _Reader, *, is_expanded: bool) -> int:
    """The ifIndex of an interface; 0 if it is not one."""
    value = sample.number()
    form, number = (value, sample.number()) if is_expanded else (value >> 30, value & 0x3FFFFFFF)
    return number if form == ONE_PORT else 0


def _records(sample: _Reader) -> Iterator[tuple[int, _Reader]]:
    count = sample.number()
    if count > MOST_RECORDS:
        raise Malformed(f"a sample says that it has {count} records")
    for _ in range(count):
        what = sample.number()
        yield what, sample.inner()


def _counter_sample(sample: _Reader, domain: Domain, samples: Samples, *, is_expanded: bool) -> None:
    sample.number()
    for _ in range(2 if is_expanded else 1):
        sample.number()
    for what, record in _records(sample):
        if what == GENERIC_INTERFACE:
            if_index = record.number()
            # ifType, ifSpeed (64 bits), ifDirection, ifStatus.
            record.octets(20)
            in_octets = record.number() << 32 | record.number()
            # Packets received: unicast, multicast, broadcast, discarded, with errors, of unknown protocols.
            record.octets(24)
            out_octets = record.number() << 32 | record.number()
            samples.counters.append((domain, InterfaceCounters(if_index, in_octets, out_octets)))


def _as_packet(source: bytes, destination: bytes, protocol: int, ports: tuple[int, int], flags: int, tos: int) -> bytes:
    """A packet with the same fields, so that both kinds of samples are looked at in one way."""
    upper = b"".join((port & 0xFFFF).to_bytes(2, "big") for port in ports) + bytes(9) + bytes((flags & 0xFF,))
    if len(source) == 4:
        return bytes((0x45, tos & 0xFF, *bytes(7), protocol & 0xFF, 0, 0)) + source + destination + upper
    first = 6 << 28 | (tos & 0xFF) << 20
    return first.to_bytes(4, "big") + bytes((0, 0, protocol & 0xFF, 0)) + source + destination + upper


def read(samples: Samples) -> list[tuple[Domain, Records]]:
    """Records of all samples that wait, by domain; what is no IP is left out, and counted by nobody."""
    if not samples.headers:
        return []
    frames = np.frombuffer(b"".join(samples.headers), "u1").reshape(-1, HEADER_OCTETS)
    numbers = np.array(samples.numbers, "i8")
    made = empty(len(frames))
    at, kind = _network_layer(frames, numbers[:, 4])
    rows = np.arange(len(frames))
    is_v4, is_v6 = kind == TYPE_V4, kind == TYPE_V6
    _fill_v4(made, frames, rows[is_v4], at[is_v4])
    _fill_v6(made, frames, rows[is_v6], at[is_v6])
    made["octets"], made["packets"] = numbers[:, 3], 1
    made["sampling"] = np.clip(numbers[:, 0], 1, 2**32 - 1)
    made["input"], made["output"] = numbers[:, 1], numbers[:, 2]
    made["start"] = made["end"] = samples.sent
    found = _by_domain(samples.domains, made, is_v4 | is_v6)
    samples.domains, samples.sent, samples.numbers, samples.headers = [], [], [], []
    return found


def _by_domain(domains: Sequence[Domain], made: Records, is_ip: NDArray[np.bool_]) -> list[tuple[Domain, Records]]:
    known = {id(each): each for each in domains}
    whose = np.array([id(each) for each in domains])
    found = []
    for number, domain in known.items():
        mine = made[(whose == number) & is_ip]
        domain.records += int((whose == number).sum())
        if len(mine):
            found.append((domain, mine))
    return found


def _two(frames: NDArray[np.uint8], rows: NDArray[np.int64], at: NDArray[np.int64]) -> NDArray[np.int64]:
    """A number of two octets of each row; beyond the header it is of zeros."""
    safe = np.minimum(at, HEADER_OCTETS - 2)
    words: NDArray[np.int64] = frames[rows, safe].astype("i8") << 8
    words |= frames[rows, safe + 1]
    return words


def _network_layer(
    frames: NDArray[np.uint8], protocol: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Where IP begins in each frame, and which version it is; 0 if it is something else."""
    rows = np.arange(len(frames))
    at, kind = np.zeros(len(frames), "i8"), np.zeros(len(frames), "i8")
    kind[protocol == IP_V4], kind[protocol == IP_V6] = TYPE_V4, TYPE_V6
    is_ethernet = protocol == ETHERNET
    at[is_ethernet] = 12
    kind[is_ethernet] = _two(frames, rows, at)[is_ethernet]
    for _ in range(3):
        tagged = is_ethernet & np.isin(kind, VLAN_TAGS)
        at[tagged] += 4
        kind[tagged] = _two(frames, rows, at)[tagged]
    at[is_ethernet] += 2
    version = frames[rows, at] >> 4
    kind[~(((kind == TYPE_V4) & (version == 4)) | ((kind == TYPE_V6) & (version == 6)))] = 0
    return at, kind


def _fill_v4(made: Records, frames: NDArray[np.uint8], rows: NDArray[np.int64], at: NDArray[np.int64]) -> None:
    made["tos"][rows], made["protocol"][rows] = frames[rows, at + 1], frames[rows, at + 9]
    for way, begin in (("src", 12), ("dst", 16)):
        high, low = _two(frames, rows, at + begin), _two(frames, rows, at + begin + 2)
        made[f"{way}_lo"][rows] = (high << 16 | low).astype("u8") | np.uint64(MAPPED)
    # A fragment that is not the first one has no ports (RFC 791).
    is_first = _two(frames, rows, at + 6) & 0x1FFF == 0
    upper = at + (frames[rows, at].astype("i8") & 15) * 4
    _fill_ports(made, frames, rows[is_first], upper[is_first])


def _fill_v6(made: Records, frames: NDArray[np.uint8], rows: NDArray[np.int64], at: NDArray[np.int64]) -> None:
    made["tos"][rows] = _two(frames, rows, at) >> 4 & 0xFF
    made["protocol"][rows] = frames[rows, at + 6]
    for way, begin in (("src", 8), ("dst", 24)):
        for half, offset in (("hi", 0), ("lo", 8)):
            words = [_two(frames, rows, at + begin + offset + step).astype("u8") for step in (0, 2, 4, 6)]
            made[f"{way}_{half}"][rows] = (
                words[0] << np.uint64(48) | words[1] << np.uint64(32) | words[2] << np.uint64(16) | words[3]
            )
    _fill_ports(made, frames, rows, at + 40)


def _fill_ports(made: Records, frames: NDArray[np.uint8], rows: NDArray[np.int64], at: NDArray[np.int64]) -> None:
    has_ports = np.isin(made["protocol"][rows], (TCP, UDP)) & (at <= HEADER_OCTETS - 4)
    rows, at = rows[has_ports], at[has_ports]
    made["src_port"][rows], made["dst_port"][rows] = _two(frames, rows, at), _two(frames, rows, at + 2)
    is_tcp = (made["protocol"][rows] == TCP) & (at <= HEADER_OCTETS - 14)
    made["tcp_flags"][rows[is_tcp]] = frames[rows[is_tcp], at[is_tcp] + 13]
