"""Captured packets as a pcapng file (IETF draft-ietf-opsawg-pcapng): a section, an interface, a block for each packet."""

import struct

SECTION, INTERFACE, PACKET = 0x0A0D0D0A, 1, 6
ETHERNET, RAW_IP = 1, 101
"""Link types."""
NAME, FILTER, RESOLUTION, COMMENT = 2, 11, 9, 1
NANOSECONDS = 9


def begin(name: str, link: int, longest: int, filtered: str) -> bytes:
    """The beginning of a file: who wrote it, and by which interface and filter packets came.

    Parameters
    ----------
    longest : octets of a packet that are kept; 0 is all of them
    """
    application = _option(4, b"Lumtar")
    section = struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1) + application + _option(0, b"")
    options = _option(NAME, name.encode()) + _option(RESOLUTION, bytes((NANOSECONDS,)))
    if filtered:
        # The filter as text is marked by a zero ahead.
        options += _option(FILTER, b"\0" + filtered.encode())
    interface = struct.pack("<HHI", link, 0, longest) + options + _option(0, b"")
    return _block(SECTION, section) + _block(INTERFACE, interface)


def packet(at_ns: int, data: bytes, length: int) -> bytes:
    """A packet: when it came (nanoseconds of the epoch), what was kept of it, and how long it was."""
    return _block(PACKET, struct.pack("<IIIII", 0, at_ns >> 32, at_ns & 0xFFFFFFFF, len(data), length) + _padded(data))


def _padded(data: bytes) -> bytes:
    return data + bytes(-len(data) % 4)


def _option(code: int, value: bytes) -> bytes:
    return struct.pack("<HH", code, len(value)) + _padded(value)


def _block(kind: int, body: bytes) -> bytes:
    length = len(body) + 12
    return struct.pack("<II", kind, length) + body + struct.pack("<I", length)
