"""Setting one object of a device, and reading it back."""

import time
from collections.abc import Sequence
from dataclasses import dataclass

from lumtar.engine.trial import Candidate
from lumtar.wire import ber
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.pdu import Value
from lumtar.wire.session import Patience, Session
from lumtar.wire.transport import Transport, resolve

PATIENCE = Patience(2.0, 2)


@dataclass(slots=True)
class ObjectSet:
    """What became of it: the value before and after (texts in UTF-8), and what went wrong; ``is_set`` if it is as wanted."""

    before: int | str | None = None
    after: int | str | None = None
    is_set: bool = False
    is_tried: bool = False
    """It was sent to be set: whatever came of that, it must not be sent again."""
    fault: str = ""
    took_ms: float = 0.0


async def set_object(
    address: str, port: int, candidates: Sequence[Candidate], oid: str, wanted: int | str, *, is_read: bool = True
) -> ObjectSet:
    """Set an object by the first credential that the device answers to, and read it back.

    Parameters
    ----------
    is_read : False for an object that restarts the device: nothing can be read then
    """
    began, done, transport = time.monotonic(), ObjectSet(), Transport()
    try:
        family, place = resolve(address, port)
        for last, candidate in enumerate(candidates, 1 - len(candidates)):
            try:
                session = candidate.session(transport, family, place, PATIENCE)
                await _set(session, oid, wanted, done, is_read=is_read)
                done.fault = ""
                break
            except Fault as fault:
                done.fault = f"{fault.words} (credential {candidate.name})"
                if fault.kind is not FaultKind.NOT_SET and done.is_tried:
                    done.fault += "; whether it was changed is not known"
                if fault.kind is FaultKind.NOT_SET or done.is_tried or last == 0:
                    break
    except Fault as fault:
        done.fault = fault.words
    finally:
        transport.close()
    done.took_ms = round(1000 * (time.monotonic() - began), 1)
    return done


async def _set(session: Session, oid: str, wanted: int | str, done: ObjectSet, *, is_read: bool) -> None:
    body = ber.oid_body(oid)
    done.before = await _read(session, body)
    if done.before is None and is_read:
        raise Fault(FaultKind.NOT_SET, "the device has no such object, or does not show it to this credential")
    value = ber.integer(wanted) if isinstance(wanted, int) else ber.tlv(ber.OCTET_STRING, wanted.encode())
    done.is_tried = True
    await session.set(body, value)
    if not is_read:
        done.is_set = True
        return
    done.after = await _read(session, body)
    done.is_set = done.after == wanted


async def _read(session: Session, oid: bytes) -> int | str | None:
    answer = await session.get([oid])
    value: Value = answer.values[0]
    if answer.tags[0] in ber.ABSENT:
        return None
    return value.decode(errors="replace") if isinstance(value, bytes) else value
