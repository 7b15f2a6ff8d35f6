"""Basic Encoding Rules as SNMP uses them (RFC 3417 section 8; X.690): definite lengths, short tags."""

from functools import lru_cache

INTEGER, OCTET_STRING, NULL, OBJECT_IDENTIFIER, SEQUENCE = 0x02, 0x04, 0x05, 0x06, 0x30
IP_ADDRESS, COUNTER32, GAUGE32, TIME_TICKS, OPAQUE, COUNTER64 = 0x40, 0x41, 0x42, 0x43, 0x44, 0x46
NO_SUCH_OBJECT, NO_SUCH_INSTANCE, END_OF_MIB_VIEW = 0x80, 0x81, 0x82
OUT_OF_RANGE = 0x1FF
"""No tag of BER: a value that its own type cannot hold. Whoever reads it treats it as absent."""
UNSIGNED = {COUNTER32: 4, GAUGE32: 4, TIME_TICKS: 4, COUNTER64: 8}
"""Types of whole numbers from 0 on, and the octets that they have (RFC 2578 section 7.1)."""
ABSENT = frozenset((NO_SUCH_OBJECT, NO_SUCH_INSTANCE, END_OF_MIB_VIEW, NULL, OUT_OF_RANGE))
LONGEST_OID = 128
"""Sub-identifiers of an object identifier, each below 2**32 (RFC 2578 section 3.5)."""
HIGHEST_SUBIDENTIFIER = 2**32 - 1


class Malformed(ValueError):
    """Bytes that are not what they should be; the message says what is wrong with them."""


def length(size: int) -> bytes:
    """A definite length."""
    if size < 0x80:
        return bytes((size,))
    if size < 0x100:
        return bytes((0x81, size))
    return b"\x82" + size.to_bytes(2, "big")


def tlv(tag: int, body: bytes) -> bytes:
    """Tag, length, value."""
    return bytes((tag,)) + length(len(body)) + body


def integer(value: int, tag: int = INTEGER) -> bytes:
    """A whole number in as few octets as two's complement needs, also for the unsigned types."""
    size = (value.bit_length() if value >= 0 else (value + 1).bit_length()) // 8 + 1
    return bytes((tag, size)) + value.to_bytes(size, "big", signed=True)


@lru_cache(maxsize=200_000)
def oid_body(oid: str) -> bytes:
    """The encoded sub-identifiers of a dotted object identifier.

    Raises
    ------
    ValueError
        if it is not a dotted object identifier
    """
    parts = [int(part) for part in oid.strip(".").split(".")]
    if len(parts) < 2 or min(parts) < 0 or parts[0] > 2:
        raise ValueError(f"{oid!r} is not an object identifier")
    return subidentifiers([parts[0] * 40 + parts[1], *parts[2:]])


def subidentifiers(parts: list[int]) -> bytes:
    """Numbers in base 128, every octet but a number's last with its high bit set."""
    out = bytearray()
    for part in parts:
        piece = [part & 0x7F]
        while part := part >> 7:
            piece.append(part & 0x7F | 0x80)
        out += bytes(reversed(piece))
    return bytes(out)


@lru_cache(maxsize=200_000)
def suffix(body: bytes) -> tuple[int, ...]:
    """The numbers of encoded sub-identifiers.

    Raises
    ------
    Malformed
        if the last one is cut short, one is too large, or one is not written in the shortest way (X.690 section 8.19.2):
        two ways to write one number would be two rows with one index
    """
    if len(body) > 5 * LONGEST_OID:
        raise Malformed(f"an object identifier of {len(body):,} octets")
    numbers = []
    number = 0
    begins = True
    for octet in body:
        if begins and octet == 0x80:
            raise Malformed("an object identifier is not written in the shortest way")
        number = number << 7 | octet & 0x7F
        begins = octet < 0x80
        if begins:
            if number > HIGHEST_SUBIDENTIFIER:
                raise Malformed("an object identifier holds a number of more than 32 bits")
            numbers.append(number)
            number = 0
    if body and body[-1] & 0x80:
        raise Malformed("an object identifier is cut short")
    return tuple(numbers)


def dotted(body: bytes) -> str:
    """An encoded object identifier in dotted form."""
    numbers = suffix(body)
    if not numbers:
        return ""
    first = min(numbers[0] // 40, 2)
    return ".".join(map(str, (first, numbers[0] - 40 * first, *numbers[1:])))


def read(data: bytes, at: int, expected: int | None = None) -> tuple[int, int, int]:
    """Read one tag and length.

    Returns
    -------
    tag, start and end of the value

    Raises
    ------
    Malformed
        if it is cut short or not of the expected tag
    """
    try:
        tag, size = data[at], data[at + 1]
        at += 2
        if size >= 0x80:
            octets = size & 0x7F
            if not 1 <= octets <= 4:
                raise Malformed("a length is neither short nor definite")
            size = int.from_bytes(data[at : at + octets], "big")
            at += octets
    except IndexError:
        raise Malformed(f"cut short after {len(data)} octets") from None
    if at + size > len(data):
        raise Malformed(f"cut short after {len(data)} octets")
    if expected is not None and tag != expected:
        raise Malformed(f"a tag is {tag:#04x} where {expected:#04x} belongs")
    return tag, at, at + size


def read_integer(data: bytes, at: int) -> tuple[int, int]:
    """A signed whole number and where it ends."""
    _, start, end = read(data, at, INTEGER)
    if start == end:
        raise Malformed("a number has no octets")
    return int.from_bytes(data[start:end], "big", signed=True), end


def read_octets(data: bytes, at: int) -> tuple[bytes, int]:
    """An octet string and where it ends."""
    _, start, end = read(data, at, OCTET_STRING)
    return data[start:end], end
