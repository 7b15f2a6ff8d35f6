"""sFlow version 5 of a stand-in exporter: samples with the beginnings of frames, which add up to the octets that were exchanged."""

import struct
from dataclasses import dataclass

from lab.flow_encoding import is_v4
from lumtar.core.flows.records import Records

FRAME_OCTETS = 1400
"""Of a sampled frame."""
MOST_SAMPLES = 7
"""In a datagram, so that it is not cut into pieces on its way."""
MOST_OF_A_FLOW = 3
"""Samples of a flow; of larger flows fewer packets are sampled."""
TCP = 6


@dataclass
class SflowEncoder:
    """One agent's datagrams."""

    agent: str
    sequence: int = 0
    samples: int = 0

    def datagrams(self, records: Records, now: float, boot: float) -> list[bytes]:
        """Samples of all of these records; a record becomes several, whose octets times their rates add up to it."""
        parts: list[bytes] = []
        for row, four in zip(records, is_v4(records), strict=True):
            for rate, octets in _sampled(int(row["octets"])):
                parts.append(self._sample(row, rate, octets, is_four=bool(four)))
        uptime = int((now - boot) * 1000) & 0xFFFFFFFF
        return [self._wrap(parts[begin : begin + MOST_SAMPLES], uptime) for begin in range(0, len(parts), MOST_SAMPLES)]

    def _wrap(self, samples: list[bytes], uptime: int) -> bytes:
        self.sequence += 1
        agent = bytes(map(int, self.agent.split(".")))
        return (
            struct.pack(">II4sIIII", 5, 1, agent, 0, self.sequence & 0xFFFFFFFF, uptime, len(samples))
            + b"".join(samples)
        )  # fmt: skip

    def _sample(self, row: Records, rate: int, octets: int, *, is_four: bool) -> bytes:
        self.samples += 1
        frame = _frame(row, octets, is_four=is_four)
        padded = frame.ljust((len(frame) + 3) & ~3, b"\0")
        header = struct.pack(">IIII", 1, octets, 4, len(frame)) + padded
        record = struct.pack(">II", 1, len(header)) + header
        body = struct.pack(
            ">IIIIIIII", self.samples & 0xFFFFFFFF, int(row["input"]), rate, self.samples * rate & 0xFFFFFFFF, 0, int(row["input"]),
            int(row["output"]), 1,
        )  # fmt: skip
        return struct.pack(">II", 1, len(body) + len(record)) + body + record


def _sampled(octets: int) -> list[tuple[int, int]]:
    """Rates and octets of frames that add up to so many octets."""
    rate = max(1, octets // (FRAME_OCTETS * MOST_OF_A_FLOW))
    whole, rest = divmod(octets, rate)
    full, last = divmod(whole, FRAME_OCTETS)
    found = [(rate, FRAME_OCTETS)] * full + ([(rate, last)] if last else [])
    return found + ([(1, rest)] if rest else [])


def _frame(row: Records, octets: int, *, is_four: bool) -> bytes:
    """The beginning of a frame: Ethernet, IP, and the ports."""
    upper = struct.pack(">HH", int(row["src_port"]), int(row["dst_port"])) + bytes(8)
    if row["protocol"] == TCP:
        upper += bytes((0x50, int(row["tcp_flags"]))) + bytes(6)
    length = max(20, octets - 14) & 0xFFFF
    if is_four:
        packet = struct.pack(
            ">BBHHHBBHII", 0x45, int(row["tos"]), length, 0, 0, 64, int(row["protocol"]), 0, int(row["src_lo"]) & 0xFFFFFFFF,
            int(row["dst_lo"]) & 0xFFFFFFFF,
        )  # fmt: skip
        return bytes(12) + b"\x08\x00" + packet + upper
    packet = struct.pack(
        ">IHBBQQQQ",
        6 << 28 | int(row["tos"]) << 20,
        length,
        int(row["protocol"]),
        64,
        *(int(row[name]) for name in ("src_hi", "src_lo", "dst_hi", "dst_lo")),
    )
    return bytes(12) + b"\x86\xdd" + packet + upper
