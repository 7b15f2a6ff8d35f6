"""MAC addresses (EUI-48) as whole numbers, so that tables of them are arrays, and as text."""

from collections.abc import Sequence

GROUP_BIT = 1 << 40
"""Of the first octet: the address of a group, not of a station (IEEE 802, clause 8.2)."""


def mac_number(text: str) -> int | None:
    """A MAC address as a number, in any usual notation; None if it is none."""
    digits = "".join(each for each in text.strip().lower() if each not in ":-.")
    is_mac = len(digits) == 12 and all(each in "0123456789abcdef" for each in digits)
    return int(digits, 16) if is_mac else None


def mac_text(number: int) -> str:
    """A MAC address as six pairs of digits with colons."""
    return int(number).to_bytes(6, "big").hex(":")


def mac_of_octets(octets: Sequence[int]) -> int | None:
    """The address of one station from its six octets; None if they are none, or the address of a group."""
    if len(octets) != 6 or not all(0 <= each < 256 for each in octets):
        return None
    number = int.from_bytes(bytes(octets), "big")
    return None if number & GROUP_BIT or not number else number
