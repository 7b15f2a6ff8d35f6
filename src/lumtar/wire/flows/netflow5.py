"""NetFlow version 5: a header of 24 octets, up to thirty records of 48."""

import struct

import numpy as np

from lumtar.core.flows.records import MAPPED, RECORD, Records
from lumtar.wire.ber import Malformed
from lumtar.wire.flows.exporters import Domain, Exporters

HEADER = struct.Struct(">HHIIIIBBH")
MOST_RECORDS = 30
WIRE = np.dtype(
    [
        ("src", ">u4"), ("dst", ">u4"), ("next_hop", ">u4"), ("input", ">u2"), ("output", ">u2"), ("packets", ">u4"),
        ("octets", ">u4"), ("first", ">u4"), ("last", ">u4"), ("src_port", ">u2"), ("dst_port", ">u2"), ("pad", "u1"),
        ("tcp_flags", "u1"), ("protocol", "u1"), ("tos", "u1"), ("src_as", ">u2"), ("dst_as", ">u2"), ("masks", ">u2"), ("pad2", ">u2"),
    ]
)  # fmt: skip
SAME = (
    "input",
    "output",
    "packets",
    "octets",
    "src_port",
    "dst_port",
    "tcp_flags",
    "protocol",
    "tos",
    "src_as",
    "dst_as",
)
SAMPLING_MODE_BITS = 14


def read(data: bytes, address: str, exporters: Exporters) -> tuple[Domain, Records]:
    """The records of a datagram, and whose they are.

    Raises
    ------
    Malformed
    """
    if len(data) < HEADER.size:
        raise Malformed("its header is cut short")
    _, count, uptime, seconds, nanoseconds, sequence, kind, engine, sampling = HEADER.unpack_from(data)
    body = data[HEADER.size :]
    if not 0 < count <= MOST_RECORDS or len(body) < count * WIRE.itemsize:
        raise Malformed(f"it says that it has {count} records, and has {len(body)} octets")
    domain = exporters.domain(address, "netflow5", kind << 8 | engine)
    if domain is None:
        raise Malformed("there are too many engines")
    domain.datagrams += 1
    domain.count(sequence, count)
    rows = np.frombuffer(body, WIRE, count)
    made = np.zeros(count, RECORD)
    for name in SAME:
        made[name] = rows[name]
    for way in ("src", "dst"):
        made[f"{way}_lo"] = rows[way].astype("u8") | np.uint64(MAPPED)
    booted = seconds + nanoseconds / 1e9 - uptime / 1000
    made["start"], made["end"] = (booted + _since_boot(rows[name], uptime) / 1000 for name in ("first", "last"))
    made["direction"] = 0
    made["sampling"] = sampling & ((1 << SAMPLING_MODE_BITS) - 1)
    domain.records += count
    return domain, made


def _since_boot(
    moments: "np.ndarray[tuple[int], np.dtype[np.uint32]]", uptime: int
) -> "np.ndarray[tuple[int], np.dtype[np.float64]]":
    """Milliseconds since the start of a clock of 32 bits, which may have wrapped since."""
    since = moments.astype("f8")
    return np.where(since > uptime + 1000.0, since - 2.0**32, since)
