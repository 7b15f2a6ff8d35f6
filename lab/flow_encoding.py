"""Flow records of stand-in exporters as datagrams: NetFlow versions 5 and 9, IPFIX."""

import itertools
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lab.answering import ENTERPRISE, NETWORK_ELEMENT, SERVER_ELEMENT
from lab.server_names import LENGTH, NAME_ELEMENT, server_names
from lumtar.core.flows.records import MAPPED, Records

LONGEST = 1400
"""Octets of sets in a datagram, so that it is not cut into pieces on its way."""
TEMPLATE_V4, TEMPLATE_V6 = 256, 257
PLAIN = [
    (10, 4, "input"), (14, 4, "output"), (1, 8, "octets"), (2, 4, "packets"), (7, 2, "src_port"), (11, 2, "dst_port"),
    (4, 1, "protocol"), (5, 1, "tos"), (6, 1, "tcp_flags"), (61, 1, "direction"),
]  # fmt: skip
TIMES_9, TIMES_10 = [(22, 4, "start"), (21, 4, "end")], [(152, 8, "start"), (153, 8, "end")]
ADDRESSES = {TEMPLATE_V4: [(8, 4, "src"), (12, 4, "dst")], TEMPLATE_V6: [(27, 16, "src"), (28, 16, "dst")]}
TIME_FIELDS = [(NETWORK_ELEMENT, 4, "network_us"), (SERVER_ELEMENT, 4, "server_us")]
OWN_FIELDS = [*TIME_FIELDS, (NAME_ELEMENT, LENGTH, "server_name")]
OWN = 0x8000
"""The bit of an element that an enterprise defines (RFC 7011 section 3.2)."""
Times = NDArray[np.float64]
TEMPLATES_EVERY = 3
"""Templates are sent again with every so many exports."""


def is_v4(records: Records) -> NDArray[np.bool_]:
    """Which records are of version 4."""
    return np.asarray((records["src_lo"] >> np.uint64(32) == np.uint64(MAPPED >> 32)) & (records["src_hi"] == 0))


@dataclass
class Encoder:
    """One exporter's datagrams; ``boot`` is when its device started, seconds of the epoch."""

    protocol: str
    domain: int = 0
    sequence: int = 0
    exports: int = 0
    sends_templates: bool = True
    _numbers: Iterator[int] = field(default_factory=itertools.count)

    def datagrams(self, records: Records, now: float, boot: float, times: Times | None = None) -> list[bytes]:
        """Datagrams with all of these records, and in IPFIX with response times (n, 2) in microseconds, 0 where there are none."""
        times = np.zeros((len(records), len(TIME_FIELDS))) if times is None else times
        if self.protocol == "netflow5":
            return self._version_5(records[is_v4(records)], now, boot)
        is_ipfix = self.protocol == "ipfix"
        found = []
        if self.sends_templates and self.exports % TEMPLATES_EVERY == 0:
            found.append(self._wrap(self._templates(is_ipfix), 0, now, boot, is_ipfix))
        self.exports += 1
        four = is_v4(records)
        for number, mine in ((TEMPLATE_V4, four), (TEMPLATE_V6, ~four)):
            rows = _rows(records[mine], times[mine], number, boot, is_ipfix)
            step = LONGEST // rows.dtype.itemsize
            for begin in range(0, len(rows), step):
                part = rows[begin : begin + step]
                body = part.tobytes()
                data = struct.pack(">HH", number, len(body) + 4) + body
                found.append(self._wrap(data, len(part), now, boot, is_ipfix))
        return found

    def _wrap(self, sets: bytes, records: int, now: float, boot: float, is_ipfix: bool) -> bytes:
        if is_ipfix:
            header = struct.pack(">HHIII", 10, 16 + len(sets), int(now), self.sequence & 0xFFFFFFFF, self.domain)
            self.sequence += records
        else:
            uptime = int((now - boot) * 1000) & 0xFFFFFFFF
            header = struct.pack(
                ">HHIIII", 9, max(1, records), uptime, int(now), self.sequence & 0xFFFFFFFF, self.domain
            )
            self.sequence += 1
        return header + sets

    @staticmethod
    def _templates(is_ipfix: bool) -> bytes:
        body = b""
        for number in ADDRESSES:
            fields = _fields(number, is_ipfix)
            own = OWN_FIELDS if is_ipfix else []
            body += struct.pack(">HH", number, len(fields) + len(own))
            body += b"".join(struct.pack(">HH", element, length) for element, length, _ in fields)
            body += b"".join(struct.pack(">HHI", element | OWN, length, ENTERPRISE) for element, length, _ in own)
        return struct.pack(">HH", 2 if is_ipfix else 0, len(body) + 4) + body

    def _version_5(self, records: Records, now: float, boot: float) -> list[bytes]:
        found = []
        uptime = int((now - boot) * 1000) & 0xFFFFFFFF
        for begin in range(0, len(records), 30):
            part = records[begin : begin + 30]
            header = struct.pack(
                ">HHIIIIBBH", 5, len(part), uptime, int(now), int(now % 1 * 1e9), self.sequence & 0xFFFFFFFF, 0, 0, 0
            )
            self.sequence += len(part)
            body = b"".join(
                struct.pack(
                    ">IIIHHIIIIHHBBBBHHBBH",
                    int(each["src_lo"]) & 0xFFFFFFFF, int(each["dst_lo"]) & 0xFFFFFFFF, 0, int(each["input"]), int(each["output"]),
                    int(each["packets"]), int(each["octets"]), int((each["start"] - boot) * 1000) & 0xFFFFFFFF,
                    int((each["end"] - boot) * 1000) & 0xFFFFFFFF, int(each["src_port"]), int(each["dst_port"]), 0,
                    int(each["tcp_flags"]), int(each["protocol"]), int(each["tos"]), 0, 0, 0, 0, 0,
                )
                for each in part
            )  # fmt: skip
            found.append(header + body)
        return found


def _fields(number: int, is_ipfix: bool) -> list[tuple[int, int, str]]:
    return [*ADDRESSES[number], *PLAIN, *(TIMES_10 if is_ipfix else TIMES_9)]


def _rows(records: Records, times: Times, number: int, boot: float, is_ipfix: bool) -> NDArray[np.void]:
    """Records as they lie in a set."""
    kinds = {1: "u1", 2: ">u2", 4: ">u4", 8: ">u8", 16: "(2,)>u8"}
    fields = _fields(number, is_ipfix) + (OWN_FIELDS if is_ipfix else [])
    rows = np.zeros(len(records), [(name, kinds.get(length, f"S{length}")) for _, length, name in fields])
    for way in ("src", "dst"):
        if number == TEMPLATE_V4:
            rows[way] = records[f"{way}_lo"] & np.uint64(0xFFFFFFFF)
        else:
            rows[way][:, 0], rows[way][:, 1] = records[f"{way}_hi"], records[f"{way}_lo"]
    for _, _, name in PLAIN:
        rows[name] = records[name]
    if is_ipfix:
        for place, (_, _, name) in enumerate(TIME_FIELDS):
            rows[name] = np.rint(times[:, place])
        rows["server_name"] = server_names(records)
    for name in ("start", "end"):
        milliseconds = np.rint((records[name] - (0 if is_ipfix else boot)) * 1000)
        # The clock of version 9 has 32 bits, and begins anew after fifty days.
        rows[name] = milliseconds if is_ipfix else milliseconds % 2**32
    return rows
