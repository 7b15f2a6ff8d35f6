"""Writing batches: one transaction each, safe to repeat after the database went away in the middle.

A batch that the database refuses is taken apart until the device is alone whose figures it does not take; that one is set
aside with the reason, and nobody else loses anything.
"""

from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

import psycopg
import structlog
from django.db import Error, IntegrityError, InterfaceError, OperationalError, transaction

from lumtar.domain.alarms import memory
from lumtar.domain.alarms import services as alarms
from lumtar.domain.inventory.description import note_duplex, note_speeds
from lumtar.domain.inventory.models import Device, DeviceState, Interface
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation import leases
from lumtar.domain.operation.leases import share_of
from lumtar.domain.operation.services import announce, be_durable
from lumtar.domain.readings import ethernet, newest, partitions
from lumtar.domain.readings import services as readings
from lumtar.domain.readings.models import Gap
from lumtar.engine.batch import Batch, DeviceNews, GapNews, moment

log = structlog.get_logger()
PASSES = ("08", "25", "40", "53", "55", "57", "58", "XX")
"""Classes of SQLSTATE that say nothing of what is to be stored: no connection, read-only, a conflict, no disk or memory,
in use, shut down, the system's fault. The same batch is tried again."""
NO_PARTITION = timedelta(days=2)
"""Readings so far from now that have no partition get one."""
STATE_FIELDS = [
    "reach",
    "since",
    "reason_kind",
    "reason",
    "silent_polls",
    "polled_at",
    "answered_at",
    "next_poll_at",
    "started_at",
    "rtt_ms",
    "poll_ms",
    "requests",
    "refused",
]


REFUSALS = (Error, psycopg.Error, ValueError, TypeError, ArithmeticError, LookupError, AttributeError)
"""What can be wrong with a batch."""


class Unwritable(Exception):
    """The database cannot be written to now, whatever the batch holds; it is to be tried again."""


@dataclass(frozen=True, slots=True)
class SetAside:
    """What a device gave and the database does not take."""

    device: int | None
    rows: int
    start: float
    end: float
    words: str


@dataclass(slots=True)
class Outcome:
    """What became of a batch: what the database refused, and how many readings came too late (see leases.py)."""

    set_aside: list[SetAside] = field(default_factory=list)
    late_rows: int = 0


def passes(error: BaseException) -> bool:
    """Whether an error is the database's own state, which passes, rather than a refusal of what it was given."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, psycopg.Error):
            if cause.sqlstate:
                return cause.sqlstate[:2] in PASSES
            return isinstance(cause, psycopg.OperationalError | psycopg.InterfaceError)
        cause = cause.__cause__
    # Django's own errors of a connection that is closed have no cause.
    return isinstance(error, OperationalError | InterfaceError)


def write(batch: Batch) -> Outcome:
    """Store a batch and announce it.

    Raises
    ------
    Unwritable
    """
    outcome = Outcome()
    if not batch.apart:
        for mend in (_make_partitions, _leave_out_deleted, _take_apart):
            try:
                outcome.late_rows = _write(batch)
                return outcome
            except REFUSALS as error:
                _raise_if_it_passes(error)
                mend(batch, error)
    # Words and readings go apart: an alarm is told though a figure is refused, and the other way round.
    for part in (batch.words(), batch.readings()):
        _write_halves(part, outcome)
    return outcome


def _raise_if_it_passes(error: Exception) -> None:
    if passes(error):
        raise Unwritable(str(error)) from error


def _take_apart(batch: Batch, error: Exception) -> None:
    log.warning("a batch was refused, it is written device by device", batch=str(batch.id), error=str(error))
    batch.apart = True


def _write_halves(batch: Batch, outcome: Outcome) -> None:
    devices = batch.about()
    try:
        outcome.late_rows += _write(batch)
        return
    except REFUSALS as error:
        _raise_if_it_passes(error)
        if len(devices) <= 1:
            outcome.set_aside.append(_set_aside(batch, devices[0] if devices else None, error))
            return
    for half in batch.halves():
        _write_halves(half, outcome)


def _set_aside(batch: Batch, device: int | None, error: Exception) -> SetAside:
    words = str(error).splitlines()[0][:200] if str(error) else type(error).__name__
    log.error("what a device gave could not be stored", device=device, rows=batch.rows, error=str(error))
    times = [news.at for news in batch.devices] or [entry.at.timestamp() for entry in batch.entries] or [0.0]
    return SetAside(device, batch.rows, min(times), max(times), words)


def _make_partitions(batch: Batch, error: Exception) -> None:
    """A partition that is missing near now is made: it was dropped meanwhile, or the clock was set."""
    if "no partition of relation" not in str(error) or batch.seen is None:
        return
    now = datetime.now(UTC)
    days = {moment(at).date() for at in (float(batch.seen.at.min()), float(batch.seen.at.max()))}
    for day in days:
        if abs(day - now.date()) <= NO_PARTITION:
            partitions.ensure(day, day, in_pieces=True)


def _leave_out_deleted(batch: Batch, error: Exception) -> None:
    """A device was deleted while its answer was on the way; what the others said is kept."""
    if not isinstance(error, IntegrityError):
        return
    devices = set(Device.objects.values_list("pk", flat=True))
    if batch.interfaces is not None:
        asked = batch.interfaces.tolist()
        batch.keep_interfaces(set(Interface.objects.filter(pk__in=asked).values_list("pk", flat=True)))
    batch.devices = [each for each in batch.devices if each.device in devices]
    batch.components = [each for each in batch.components if each[0] in devices]
    batch.entries = [each for each in batch.entries if each.device_id is None or each.device_id in devices]
    batch.gaps = [each for each in batch.gaps if each.device is None or each.device in devices]


def _write(offered: Batch) -> int:
    """Store a batch in one transaction. Returns how many of its readings came too late."""
    with transaction.atomic():
        be_durable()
        batch = _without_late(offered)
        if not readings.claim_batch(batch.id):
            # An earlier try was committed although its answer was lost.
            return 0
        if batch.seen is not None and batch.interfaces is not None and batch.state is not None:
            readings.append(batch.interfaces, batch.seen)
            newest.renew(batch.interfaces, batch.seen, batch.state)
        _write_polls(batch)
        _write_states(batch.devices)
        note_speeds(batch.speeds)
        note_duplex(batch.duplex)
        for entry in batch.entries:
            # An earlier try that was rolled back has left its number behind.
            entry.pk = None
        Entry.objects.bulk_create(batch.entries)
        _write_gaps(batch.gaps)
        changed = alarms.apply(batch.transitions)
        for kind, pairs in batch.memory.items():
            memory.keep(kind, pairs)
        if batch.devices:
            announce("readings", [news.device for news in batch.devices])
        if changed:
            announce("alarms", changed)
        if batch.entries:
            announce("logbook")
    return offered.rows - batch.rows


def _without_late(batch: Batch) -> Batch:
    """What of it this collector may store: another one may have taken some devices over since it was read."""
    lost = leases.lost(batch.fences)
    if not lost:
        return batch
    log.warning(
        "came too late, another collector has these devices by now", collector=batch.collector, shares=len(lost)
    )
    return batch.of([device for device in batch.about() if device is None or share_of(device) not in lost], "mine")


def _polls(batch: Batch) -> list[tuple[int, float, float, float]]:
    """Polls that were answered: device, time, round trip, duration."""
    return [
        (n.device, n.at, n.rtt_ms, n.poll_ms) for n in batch.devices if n.rtt_ms is not None and n.poll_ms is not None
    ]


def _write_polls(batch: Batch) -> None:
    ethernet.append(batch.errors)
    if batch.components:
        _, components, at, values = zip(*batch.components, strict=True)
        readings.append_components(components, at, values)
    if polls := _polls(batch):
        devices, at, rtt, took = zip(*polls, strict=True)
        readings.append_devices(devices, at, rtt, took)


def _write_states(news: list[DeviceNews]) -> None:
    rows = []
    for each in news:
        known = each.known
        rows.append(
            DeviceState(
                device_id=each.device,
                reach=known.reach,
                since=moment(known.since),
                reason_kind=known.reason_kind,
                reason=known.reason[:400],
                silent_polls=known.silent_polls,
                polled_at=moment(each.at),
                answered_at=moment(known.answered_at) if known.answered_at else None,
                next_poll_at=moment(each.next_poll_at),
                started_at=moment(known.started_at) if known.started_at else None,
                rtt_ms=each.rtt_ms,
                poll_ms=each.poll_ms,
                requests=each.requests,
                refused=each.refused or {},
            )
        )
    DeviceState.objects.bulk_create(rows, update_conflicts=True, unique_fields=["device"], update_fields=STATE_FIELDS)


def _write_gaps(news: list[GapNews]) -> None:
    for gap in news:
        if gap.end is None:
            Gap.objects.create(device_id=gap.device, start=moment(gap.start), reason=gap.reason, words=gap.words[:400])
            continue
        closed = Gap.objects.filter(device=gap.device, reason=gap.reason, end=None).update(end=moment(gap.end))
        if not closed:
            Gap.objects.create(
                device_id=gap.device,
                start=moment(gap.start),
                end=moment(gap.end),
                reason=gap.reason,
                words=gap.words[:400],
            )
