"""Writing batches: one transaction each, safe to repeat after the database went away in the middle."""

from datetime import UTC, datetime

import numpy as np
from django.db import IntegrityError, connection, transaction

from lumtar.core.rows import take_rows
from lumtar.domain.alarms import services as alarms
from lumtar.domain.alarms.services import Transition
from lumtar.domain.inventory.description import note_duplex, note_speeds
from lumtar.domain.inventory.models import Device, DeviceState, Interface
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.services import announce
from lumtar.domain.readings import ethernet
from lumtar.domain.readings import services as readings
from lumtar.domain.readings.models import Gap
from lumtar.engine.recorder import Batch, DeviceNews, GapNews, moment

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
]


def write(batch: Batch) -> None:
    """Store a batch and announce it."""
    try:
        _write(batch)
    except IntegrityError:
        # A device was deleted while its answer was on the way; what the others said is kept.
        _leave_out_deleted(batch)
        _write(batch)


def _leave_out_deleted(batch: Batch) -> None:
    devices = set(Device.objects.values_list("pk", flat=True))
    if batch.interfaces is not None and batch.seen is not None and batch.state is not None:
        asked = batch.interfaces.tolist()
        there = set(Interface.objects.filter(pk__in=asked).values_list("pk", flat=True))
        kept = np.array([interface in there for interface in asked], bool)
        batch.interfaces = batch.interfaces[kept]
        batch.seen, batch.state = take_rows(batch.seen, kept), take_rows(batch.state, kept)
        if not len(batch.interfaces):
            batch.interfaces = batch.seen = batch.state = None
        batch.speeds = [each for each in batch.speeds if each.interface in there]
        batch.errors = [each for each in batch.errors if each[0] in there]
        batch.memory = {key: over for key, over in batch.memory.items() if key[1] in there}
    batch.devices = [each for each in batch.devices if each.device in devices]
    batch.entries = [each for each in batch.entries if each.device_id is None or each.device_id in devices]
    batch.transitions = [each for each in batch.transitions if each.device in devices]
    batch.gaps = [each for each in batch.gaps if each.device is None or each.device in devices]


def _write(batch: Batch) -> None:
    with transaction.atomic():
        if not _is_written(batch):
            if batch.seen is not None and batch.interfaces is not None and batch.state is not None:
                readings.append(batch.interfaces, batch.seen)
                readings.renew_newest(batch.interfaces, batch.seen, batch.state)
            _write_polls(batch)
        _write_states(batch.devices)
        note_speeds(batch.speeds)
        note_duplex(batch.duplex)
        Entry.objects.bulk_create(batch.entries)
        _write_gaps(batch.gaps)
        changed = alarms.apply(_of_devices_in_use(batch.transitions))
        if batch.memory:
            alarms.remember(batch.memory)
        if batch.devices:
            announce("readings", [news.device for news in batch.devices])
        if changed:
            announce("alarms", changed)
        if batch.entries:
            announce("logbook")


def _of_devices_in_use(transitions: list[Transition]) -> list[Transition]:
    """Nothing is raised at a device that was retired while its poll was on the way."""
    if not transitions:
        return []
    asked = {transition.device for transition in transitions}
    retired = set(Device.objects.filter(pk__in=asked).exclude(retired_at=None).values_list("pk", flat=True))
    return [transition for transition in transitions if transition.device not in retired]


def _is_written(batch: Batch) -> bool:
    """Whether an earlier try was committed although its answer was lost."""
    if batch.interfaces is not None and batch.seen is not None:
        key = ("readings_reading", "interface_id", int(batch.interfaces[0]), float(batch.seen.at[0]))
    elif polls := _polls(batch):
        key = ("readings_devicereading", "device_id", polls[0][0], polls[0][1])
    else:
        return False
    table, column, number, at = key
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT EXISTS (SELECT 1 FROM {table} WHERE {column} = %s AND at = %s)", [number, _rounded(at)])
        return bool(cursor.fetchone()[0])


def _polls(batch: Batch) -> list[tuple[int, float, float, float]]:
    """Polls that were answered: device, time, round trip, duration."""
    return [
        (n.device, n.at, n.rtt_ms, n.poll_ms) for n in batch.devices if n.rtt_ms is not None and n.poll_ms is not None
    ]


def _rounded(seconds: float) -> datetime:
    return datetime.fromtimestamp(round(seconds * 1e6) / 1e6, UTC)


def _write_polls(batch: Batch) -> None:
    ethernet.append(batch.errors)
    if batch.parts:
        components, at, values = zip(*batch.parts, strict=True)
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
