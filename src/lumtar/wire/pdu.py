"""Protocol data units and community messages (RFC 3416, RFC 1901)."""

from collections.abc import Sequence
from dataclasses import dataclass

from lumtar.wire import ber
from lumtar.wire.ber import Malformed

GET, GET_NEXT, RESPONSE, SET, GET_BULK, REPORT = 0xA0, 0xA1, 0xA2, 0xA3, 0xA5, 0xA8
VERSION_1, VERSION_2C, VERSION_3 = 0, 1, 3

Value = int | bytes
"""Numbers as they are; octet strings, addresses and encoded object identifiers as octets."""

ERROR_STATUS = [
    "noError",
    "tooBig",
    "noSuchName",
    "badValue",
    "readOnly",
    "genErr",
    "noAccess",
    "wrongType",
    "wrongLength",
    "wrongEncoding",
    "wrongValue",
    "noCreation",
    "inconsistentValue",
    "resourceUnavailable",
    "commitFailed",
    "undoFailed",
    "authorizationError",
    "notWritable",
    "inconsistentName",
]
ODD = 17
"""Octets kept of a value that its type cannot hold, to be able to say what it was."""
TOO_BIG, NO_SUCH_NAME, AUTHORIZATION_ERROR, NO_ACCESS = 1, 2, 16, 6


@dataclass(slots=True)
class VarBinds:
    """Variable bindings as three parallel lists, which decode and compare faster than objects."""

    oids: list[bytes]
    tags: list[int]
    values: list[Value]


@dataclass(slots=True)
class Pdu:
    """``error_status`` and ``error_index`` are non-repeaters and max-repetitions in a GET_BULK."""

    kind: int
    request_id: int
    error_status: int
    error_index: int
    binds: VarBinds

    @property
    def error(self) -> str:
        """The name of a response's error (RFC 3416 section 3), its number if that is unknown; empty if there is none."""
        if not self.error_status:
            return ""
        return ERROR_STATUS[self.error_status] if self.error_status < len(ERROR_STATUS) else str(self.error_status)


NULL = b"\x05\x00"


def request(
    kind: int, request_id: int, oids: list[bytes], first: int = 0, second: int = 0, values: Sequence[bytes] = ()
) -> bytes:
    """A request for encoded object identifiers; ``first`` and ``second`` are GET_BULK's two numbers.

    ``values`` are the encoded values of a SET.
    """
    pairs = zip(oids, values or [NULL] * len(oids), strict=True)
    binds = b"".join(
        [
            b"\x30" + ber.length(len(bound)) + bound
            for bound in (ber.tlv(ber.OBJECT_IDENTIFIER, oid) + value for oid, value in pairs)
        ]
    )
    head = ber.integer(request_id) + ber.integer(first) + ber.integer(second)
    return ber.tlv(kind, head + ber.tlv(ber.SEQUENCE, binds))


def community_message(community: bytes, pdu: bytes, version: int = VERSION_2C) -> bytes:
    """A version 1 or 2c message."""
    return ber.tlv(ber.SEQUENCE, ber.integer(version) + ber.tlv(ber.OCTET_STRING, community) + pdu)


def read_pdu(data: bytes, at: int) -> Pdu:
    """Decode a PDU that begins at ``at``.

    Raises
    ------
    Malformed
    """
    kind, at, _ = ber.read(data, at)
    if not GET <= kind <= REPORT:
        raise Malformed(f"a PDU has the unknown type {kind:#04x}")
    request_id, at = ber.read_integer(data, at)
    status, at = ber.read_integer(data, at)
    index, at = ber.read_integer(data, at)
    return Pdu(kind, request_id, status, index, read_binds(data, at))


def read_binds(data: bytes, at: int) -> VarBinds:
    """Decode variable bindings. The loop is the heart of polling, hence its plainness.

    Raises
    ------
    Malformed
    """
    _, at, end = ber.read(data, at, ber.SEQUENCE)
    oids: list[bytes] = []
    tags: list[int] = []
    values: list[Value] = []
    unsigned = ber.UNSIGNED
    from_bytes = int.from_bytes
    try:
        while at < end:
            # One octet lengths are by far the most frequent; everything else goes the long way.
            if data[at] == 0x30 and data[at + 1] < 0x80:
                at += 2
            else:
                _, at, _ = ber.read(data, at, ber.SEQUENCE)
            if data[at] != 0x06:
                raise Malformed(f"a tag is {data[at]:#04x} where an object identifier belongs")
            stop = at + 2 + data[at + 1]
            if data[at + 1] < 0x80:
                oids.append(data[at + 2 : stop])
            else:
                _, start, stop = ber.read(data, at)
                oids.append(data[start:stop])
            tag = data[stop]
            size = data[stop + 1]
            if size < 0x80:
                start = stop + 2
                at = start + size
            else:
                _, start, at = ber.read(data, stop)
            octets = unsigned.get(tag)
            if octets is not None:
                # In two's complement a number with its highest bit set has one octet more, a zero.
                if at - start > octets and (at - start > octets + 1 or data[start]):
                    tags.append(ber.OUT_OF_RANGE)
                    values.append(data[start : start + ODD])
                    continue
                values.append(from_bytes(data[start:at], "big"))
            elif tag == 2:
                if not 0 < at - start <= 4:
                    tags.append(ber.OUT_OF_RANGE)
                    values.append(data[start : start + ODD])
                    continue
                values.append(from_bytes(data[start:at], "big", signed=True))
            else:
                values.append(data[start:at])
            tags.append(tag)
    except IndexError:
        raise Malformed(f"cut short after {len(data)} octets") from None
    if at != end:
        raise Malformed("variable bindings end beyond their own length")
    return VarBinds(oids, tags, values)


def read_version(data: bytes) -> tuple[int, int]:
    """The version of any message and where the rest begins."""
    _, at, _ = ber.read(data, 0, ber.SEQUENCE)
    return ber.read_integer(data, at)


def message_id(data: bytes) -> int:
    """The number by which an answer finds its request: msgID in version 3, else the request id.

    Raises
    ------
    Malformed
    """
    version, at = read_version(data)
    if version == VERSION_3:
        _, at, _ = ber.read(data, at, ber.SEQUENCE)
        return ber.read_integer(data, at)[0]
    _, _, at = ber.read(data, at, ber.OCTET_STRING)
    _, at, _ = ber.read(data, at)
    return ber.read_integer(data, at)[0]


def read_community_message(data: bytes, wanted: int = VERSION_2C) -> tuple[bytes, Pdu]:
    """Community and PDU of a version 1 or 2c message.

    Raises
    ------
    Malformed
    """
    version, at = read_version(data)
    if version != wanted:
        raise Malformed(f"the message is of version number {version}, not {wanted}")
    community, at = ber.read_octets(data, at)
    return community, read_pdu(data, at)
