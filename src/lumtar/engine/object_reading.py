"""Looking at one object of a device, for somebody who is writing a profile."""

import time
from dataclasses import dataclass, field

from lumtar.core.profiles import number_of
from lumtar.core.text import clean
from lumtar.engine.trial import Candidate
from lumtar.wire import ber, smi
from lumtar.wire.faults import Fault
from lumtar.wire.pdu import Value
from lumtar.wire.session import Patience
from lumtar.wire.transport import Transport, resolve

FIRST = 12
"""Instances of a column that are shown."""


@dataclass(frozen=True, slots=True)
class Instance:
    """One instance: its type as SMIv2 calls it (RFC 2578), its value for people, and the number in it."""

    oid: str
    type: str
    value: str
    number: float | None


@dataclass(slots=True)
class ObjectSeen:
    """What a device answered; ``more`` if it has more instances than are shown."""

    instances: list[Instance] = field(default_factory=list)
    more: bool = False
    took_ms: float = 0.0
    fault: str = ""


async def read_instances(address: str, port: int, candidate: Candidate, oid: str) -> ObjectSeen:
    """Read an object identifier, or the first instances beneath it."""
    began = time.monotonic()
    seen = ObjectSeen()
    transport = Transport()
    try:
        family, place = resolve(address, port)
        session = candidate.session(transport, family, place, Patience(1.0, 2))
        wanted = ber.oid_body(oid)
        binds = await session.get([wanted])
        if binds.tags[0] in ber.ABSENT:
            binds = await session.bulk([wanted], FIRST + 1)
        for instance, tag, value in zip(binds.oids, binds.tags, binds.values, strict=True):
            if tag in ber.ABSENT or not instance.startswith(wanted):
                break
            seen.instances.append(_instance(instance, tag, value))
        seen.more = len(seen.instances) > FIRST
        del seen.instances[FIRST:]
        if not seen.instances:
            seen.fault = "the device has nothing there, or does not show it to this credential"
    except Fault as fault:
        seen.fault = fault.words
    finally:
        transport.close()
    seen.took_ms = round(1000 * (time.monotonic() - began), 1)
    return seen


def _instance(oid: bytes, tag: int, value: Value) -> Instance:
    if isinstance(value, bytes):
        words = ber.dotted(value) if tag == ber.OBJECT_IDENTIFIER else clean(value) or value.hex(" ")
    else:
        words = str(value)
    return Instance(ber.dotted(oid), smi.TYPES.get(tag, f"type {tag:#04x}"), words, number_of(value, text=True))
