"""Flow records as arrays: the same fields whichever protocol they came by.

An address is two unsigned numbers of 64 bits; one of version 4 is mapped into version 6 (RFC 4291 section 2.5.5.2).
"""

import ipaddress

import numpy as np
from numpy.typing import NDArray

MAPPED = 0xFFFF << 32
"""What stands above an address of version 4 in the lower half."""
UNKNOWN_WAY, INGRESS, EGRESS = 255, 0, 1
RECORD = np.dtype(
    [
        ("src_hi", "u8"),
        ("src_lo", "u8"),
        ("dst_hi", "u8"),
        ("dst_lo", "u8"),
        ("octets", "u8"),
        ("packets", "u8"),
        ("start", "f8"),
        ("end", "f8"),
        ("input", "u4"),
        ("output", "u4"),
        ("src_as", "u4"),
        ("dst_as", "u4"),
        ("sampling", "u4"),
        ("application", "u4"),
        ("server_name", "u4"),
        ("src_port", "u2"),
        ("dst_port", "u2"),
        ("protocol", "u1"),
        ("tos", "u1"),
        ("tcp_flags", "u1"),
        ("direction", "u1"),
    ]
)
"""A record. ``octets`` and ``packets`` are as counted, not yet multiplied by ``sampling`` (1 in so many packets; 0 is not told).
``start`` and ``end`` are seconds of the epoch. ``input`` and ``output`` are ifIndexes, 0 if unknown. ``application`` is what the exporter says,
0 if nothing. ``server_name`` is that which a client asked for, by number (server_names). ``direction`` is INGRESS or EGRESS (RFC 5102, flowDirection), UNKNOWN_WAY if it is not told."""
Records = NDArray[np.void]


def empty(number: int) -> Records:
    """So many records in which nothing is known."""
    made = np.zeros(number, RECORD)
    made["direction"] = UNKNOWN_WAY
    made["src_lo"] = made["dst_lo"] = MAPPED
    return made


def address_numbers(address: str) -> tuple[int, int]:
    """The two halves of an address.

    Raises
    ------
    ValueError
    """
    known = ipaddress.ip_address(address)
    number = int(known) if known.version == 6 else MAPPED | int(known)
    return number >> 64, number & (2**64 - 1)


def address_text(hi: int, lo: int) -> str:
    """An address as text."""
    if hi == 0 and lo >> 32 == 0xFFFF:
        return str(ipaddress.IPv4Address(lo & 0xFFFFFFFF))
    return str(ipaddress.IPv6Address(hi << 64 | lo))
