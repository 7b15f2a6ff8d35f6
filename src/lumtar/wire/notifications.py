"""Sending notifications: traps and inform requests of version 2c (RFC 3416, sections 4.2.6 and 4.2.7)."""

from collections.abc import Sequence

from lumtar.wire import ber, pdu

INFORM, TRAP = 0xA6, 0xA7
Bind = tuple[str, bytes]
"""An object identifier in dots and an encoded value."""


def notification(community: bytes, number: int, binds: Sequence[Bind], *, confirmed: bool) -> bytes:
    """A message with an inform request, which the receiver confirms, or a trap, which nobody does.

    Parameters
    ----------
    binds : the first two are sysUpTime.0 and snmpTrapOID.0
    """
    body = b"".join(
        ber.tlv(ber.SEQUENCE, ber.tlv(ber.OBJECT_IDENTIFIER, ber.oid_body(oid)) + value) for oid, value in binds
    )
    head = ber.integer(number) + ber.integer(0) + ber.integer(0)
    return pdu.community_message(community, ber.tlv(INFORM if confirmed else TRAP, head + ber.tlv(ber.SEQUENCE, body)))


def is_answer(data: bytes, number: int) -> bool:
    """Whether a datagram confirms the inform request with this number.

    Raises
    ------
    Malformed
    """
    _, at, _ = ber.read(data, 0, ber.SEQUENCE)
    _, at = ber.read_integer(data, at)
    _, at = ber.read_octets(data, at)
    answer = pdu.read_pdu(data, at)
    return answer.kind == pdu.RESPONSE and answer.request_id == number and answer.error_status == 0
