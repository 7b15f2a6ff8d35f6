"""Test packets of STAMP (RFC 8762), unauthenticated, with the session identifier and the padding of RFC 8972."""

import struct
from dataclasses import dataclass

from lumtar.wire.ber import Malformed

BASE = 44
"""Octets of a test packet without extensions, of both kinds."""
SENDER = struct.Struct(">IQHH28x")
REFLECTOR = struct.Struct(">IQHHQIQHxxB3x")
TLV = struct.Struct(">BBH")
PADDING, UNRECOGNISED = 1, 0x80
"""The type of a TLV of padding (RFC 8972 section 4.1), and the flag of one that a reflector does not know."""
NTP_EPOCH = 2_208_988_800
SYNCHRONISED, PTP = 0x8000, 0x4000
MOST_OCTETS = 9000


def ntp(at_ns: int) -> int:
    """A time of the epoch as an NTP time stamp (RFC 8762 section 4.2.1)."""
    seconds, rest = divmod(at_ns, 1_000_000_000)
    return (((seconds + NTP_EPOCH) & 0xFFFFFFFF) << 32) | (rest << 32) // 1_000_000_000


def nanoseconds(stamp: int, error: int, near_ns: int) -> int:
    """A time stamp as nanoseconds of the epoch, in the era of NTP nearest to another time; by the error estimate it may be one of PTP."""
    high, low = stamp >> 32, stamp & 0xFFFFFFFF
    if error & PTP:
        return high * 1_000_000_000 + low
    era = round((near_ns // 1_000_000_000 + NTP_EPOCH - high) / 2**32)
    return (high + era * 2**32 - NTP_EPOCH) * 1_000_000_000 + (low * 1_000_000_000 >> 32)


def error_estimate(seconds: float, *, is_synchronised: bool) -> int:
    """An error estimate (RFC 4656 section 4.1.2): multiplier x 2^(scale-32) seconds, never less than what is meant."""
    scale = 0
    while seconds * 2.0 ** (32 - scale) > 255 and scale < 63:
        scale += 1
    multiplier = min(255, max(1, -int(-(seconds * 2.0 ** (32 - scale)) // 1)))
    return (SYNCHRONISED if is_synchronised else 0) | scale << 8 | multiplier


def seconds_of(error: int) -> float:
    """What an error estimate stands for."""
    return float((error & 0xFF) * 2.0 ** ((error >> 8 & 0x3F) - 32))


@dataclass(frozen=True, slots=True)
class Answer:
    """A reflector's packet.

    Attributes
    ----------
    sequence, session : of the probe that it answers; 0 is no session
    origin : the time stamp that the probe had
    received, sent : the reflector's time stamps
    error : its error estimate of both
    ttl : of the probe when it arrived
    """

    sequence: int
    session: int
    origin: int
    received: int
    sent: int
    error: int
    ttl: int


def probe(sequence: int, session: int, at_ns: int, error: int, octets: int = BASE) -> bytes:
    """A sender's packet of so many octets; what is beyond the base is padding."""
    base = SENDER.pack(sequence & 0xFFFFFFFF, ntp(at_ns), error, session)
    more = max(0, octets - BASE - TLV.size)
    return base if octets < BASE + TLV.size else base + TLV.pack(UNRECOGNISED, PADDING, more) + bytes(more)


def answer(data: bytes) -> Answer:
    """Read a reflector's packet.

    Raises
    ------
    Malformed
    """
    if len(data) < BASE:
        raise Malformed(f"it has {len(data)} octets, and a test packet at least {BASE}")
    _, sent, error, session, received, sequence, origin, _, ttl = REFLECTOR.unpack_from(data)
    return Answer(sequence, session, origin, received, sent, error, ttl)


def echoed(data: bytes) -> Answer:
    """Read a sender's packet that came back as it was sent, from something that only echoes: it tells no times.

    Raises
    ------
    Malformed
    """
    if len(data) < BASE:
        raise Malformed(f"it has {len(data)} octets, and a test packet at least {BASE}")
    sequence, origin, error, session = SENDER.unpack_from(data)
    return Answer(sequence, session, origin, 0, 0, error, 0)


def reflected(data: bytes, received_ns: int, sent_ns: int, error: int, ttl: int) -> bytes:
    """The answer of a stateless reflector (RFC 8762 section 4.3): as long as the probe, with its padding.

    Raises
    ------
    Malformed
    """
    if not BASE <= len(data) <= MOST_OCTETS:
        raise Malformed(f"it has {len(data)} octets, and a test packet {BASE} to {MOST_OCTETS}")
    sequence, at, sender_error, session = SENDER.unpack_from(data)
    base = REFLECTOR.pack(
        sequence, ntp(sent_ns), error, session, ntp(received_ns), sequence, at, sender_error, ttl & 0xFF
    )
    return base + _extensions(data[BASE:])


def _extensions(data: bytes) -> bytes:
    """Extensions as a reflector returns them: padding is known, whatever else is marked (RFC 8972 section 4)."""
    found, at = [], 0
    while len(data) - at >= TLV.size:
        flags, kind, length = TLV.unpack_from(data, at)
        if at + TLV.size + length > len(data):
            break
        known = flags & ~UNRECOGNISED if kind == PADDING else flags | UNRECOGNISED
        found.append(TLV.pack(known & 0xFF, kind, length) + data[at + TLV.size : at + TLV.size + length])
        at += TLV.size + length
    # What cannot be understood is padding of older senders.
    return b"".join(found) + data[at:]
