"""Whether devices answer: gaps, log entries and the newest state of a device."""

from typing import TYPE_CHECKING

from lumtar.core.units import duration
from lumtar.domain.inventory.models import Device, Reach
from lumtar.domain.logbook.models import Entry
from lumtar.engine.batch import Batch, DeviceNews, GapNews, Reachability, moment
from lumtar.wire.faults import Fault

if TYPE_CHECKING:
    from lumtar.engine.recorder import Answer

Kind = Entry.Kind
CLOCKS_APART = 30.0
"""Seconds by which the time of a start may seem to move from one answer to the next without a restart."""
WRAP_S = 2**32 / 100
"""sysUpTime counts hundredths in 32 bits and begins anew after 497 days (RFC 3418), which is no restart."""


def answered(batch: Batch, known: Reachability, answer: "Answer") -> float:
    """A device answered. Returns for how many seconds it had been silent, 0 if it had not."""
    device, at = answer.device, answer.at
    silent_s = 0.0
    if known.reach == Reach.SILENT:
        silent_s = at - known.since
        batch.gaps.append(GapNews(device.pk, known.answered_at or at, at, "silent", known.reason))
        words = f"answers again after {duration(silent_s)}" if silent_s >= 1 else "answers again"
        batch.entries.append(Entry(at=moment(at), kind=Kind.REACH, device=device, text=f"{device.name} {words}"))
    if known.reach != Reach.ANSWERS:
        known.reach, known.since = Reach.ANSWERS, at
    if answer.uptime >= 0:
        _note_start(batch, known, device, at, at - answer.uptime / 100)
    known.answered_at, known.silent_polls, known.reason, known.reason_kind = at, 0, "", ""
    batch.devices.append(
        DeviceNews(
            device=device.pk,
            at=at,
            known=known,
            next_poll_at=answer.next_poll_at,
            rtt_ms=answer.rtt_ms,
            poll_ms=answer.poll_ms,
            requests=answer.requests,
            refused=answer.refused,
        )
    )
    return silent_s


def _note_start(batch: Batch, known: Reachability, device: Device, at: float, started: float) -> None:
    before = known.started_at
    if before is not None and started - before > WRAP_S / 2:
        wrapped = started - WRAP_S * round((started - before) / WRAP_S)
        started = wrapped if abs(wrapped - before) <= CLOCKS_APART else started
    if before is not None and started > before + CLOCKS_APART:
        was_up = duration(max(0.0, (known.answered_at or at) - before))
        text = f"{device.name} restarted, was up {was_up}"
        batch.entries.append(Entry(at=moment(started), kind=Kind.RESTART, device=device, text=text))
    # Two clocks drift apart by seconds a day: what is compared is each answer with the one before.
    if before is None or abs(started - before) > 1.0:
        known.started_at = started


def unanswered(batch: Batch, known: Reachability, device: Device, at: float, fault: Fault, next_poll_at: float) -> None:
    """A poll of a device failed."""
    known.silent_polls += 1
    if known.reach != Reach.SILENT:
        batch.gaps.append(GapNews(device.pk, known.answered_at or at, None, "silent", fault.words))
        text = f"{device.name} does not answer: {fault.words}"
        batch.entries.append(Entry(at=moment(at), kind=Kind.REACH, device=device, text=text[:400]))
        known.reach, known.since = Reach.SILENT, at
    known.reason_kind, known.reason = fault.kind, fault.words
    batch.devices.append(DeviceNews(device.pk, at, known, next_poll_at))
