"""Series for charts: rates over time for one interface, as exact as what is kept allows."""

from dataclasses import dataclass, field
from datetime import datetime, timedelta

import numpy as np
from django.conf import settings
from django.db import connection
from django.db.models import Q
from django.utils import timezone
from numpy.typing import NDArray

from lumtar.core.counters import Flag
from lumtar.domain.inventory.models import Interface, InterfaceSpeed
from lumtar.domain.readings.models import Gap

MOST_POINTS = 1600
STEPS = (60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 21600, 43200, 86400)

RAW = f"""
SELECT extract(epoch FROM at)::float8, elapsed_ms::bigint,
    CASE WHEN flags & {int(Flag.BRIDGED)} <> 0 THEN 0 ELSE elapsed_ms END, in_octets, out_octets,
    in_octets * 8000::float8 / nullif(elapsed_ms, 0), out_octets * 8000::float8 / nullif(elapsed_ms, 0),
    in_errors + out_errors, in_discards + out_discards, flags, in_packets, out_packets
FROM readings_reading WHERE interface_id = %s AND at > %s AND at <= %s ORDER BY at
"""
HOURS = """
SELECT extract(epoch FROM at)::float8 + 3600, elapsed_ms, elapsed_ms,
    in_octets + bridged_in_octets, out_octets + bridged_out_octets, in_max_bps, out_max_bps,
    in_errors + out_errors, in_discards + out_discards, flags, in_packets, out_packets,
    in_octets, out_octets
FROM readings_hour WHERE interface_id = %s AND at >= %s AND at < %s ORDER BY at
"""


@dataclass(slots=True)
class Rows:
    """What was counted, one entry a reading or an hour. Times are ends, in seconds of the epoch."""

    at: NDArray[np.float64]
    rated_ms: NDArray[np.float64]
    in_octets: NDArray[np.float64]
    out_octets: NDArray[np.float64]
    rated_in: NDArray[np.float64]
    rated_out: NDArray[np.float64]
    in_max: NDArray[np.float64]
    out_max: NDArray[np.float64]
    errors: NDArray[np.float64]
    discards: NDArray[np.float64]
    flags: NDArray[np.int64]


@dataclass(slots=True)
class Summary:
    """One direction in figures: rates in bits per second, the volume in octets."""

    min: float | None
    mean: float | None
    p95: float | None
    max: float | None
    volume: int


@dataclass(slots=True)
class Series:
    """A chart's worth of points. ``at`` are the ends of steps of ``step_s`` seconds; None is no rate."""

    source: str
    step_s: int
    at: list[int]
    in_bps: list[float | None]
    out_bps: list[float | None]
    in_max_bps: list[float | None]
    out_max_bps: list[float | None]
    errors: list[int]
    discards: list[int]
    inward: Summary
    outward: Summary
    measured: float
    restarts: list[int] = field(default_factory=list)


def is_raw_kept(start: datetime) -> bool:
    """Whether readings as they were polled are still there for this time."""
    return start >= timezone.now() - timedelta(days=settings.RAW_DAYS)


def read(interface: Interface, start: datetime, end: datetime, points: int = 800) -> Series:
    """Rates from start to end in at most so many points (see MOST_POINTS)."""
    span = (end - start).total_seconds()
    raw = is_raw_kept(start) and span <= 8 * 86400
    wanted = span / max(10, min(points, MOST_POINTS))
    floor = interface.device.interval_s if raw else 3600
    step = next((step for step in STEPS if step >= max(wanted, floor)), STEPS[-1])
    rows = _raw(interface.pk, start, end) if raw else _hours(interface.pk, start, end)
    # Polls were rarer than the steps asked for: a step is as long as a reading then.
    covered = rows.rated_ms[rows.rated_ms > 0]
    usual = float(np.median(covered)) / 1000 if len(covered) else 0.0
    step = next((each for each in STEPS if each >= max(step, 0.9 * usual)), STEPS[-1])
    return _in_steps(rows, start, end, step, "readings" if raw else "hours")


def _fetch(sql: str, interface: int, start: datetime, end: datetime) -> NDArray[np.float64]:
    with connection.cursor() as cursor:
        cursor.execute(sql, [interface, start, end])
        rows = cursor.fetchall()
    width = 14 if sql is HOURS else 12
    return np.array(rows, np.float64).reshape(-1, width)


def _raw(interface: int, start: datetime, end: datetime) -> Rows:
    found = _fetch(RAW, interface, start, end)
    flags = found[:, 9].astype(np.int64)
    spans = (flags & int(Flag.BRIDGED)) != 0
    rated_in, rated_out = (np.where(spans, 0.0, found[:, column]) for column in (3, 4))
    peaks = [np.where(spans, np.nan, found[:, column]) for column in (5, 6)]
    return Rows(
        found[:, 0],
        found[:, 2],
        found[:, 3],
        found[:, 4],
        rated_in,
        rated_out,
        peaks[0],
        peaks[1],
        found[:, 7],
        found[:, 8],
        flags,
    )


def _hours(interface: int, start: datetime, end: datetime) -> Rows:
    found = _fetch(HOURS, interface, start, end)
    # Hours that have not closed yet come from the readings, one "hour" for what there is.
    last = found[-1, 0] if len(found) else start.timestamp()
    rows = Rows(
        found[:, 0],
        found[:, 2],
        found[:, 3],
        found[:, 4],
        found[:, 12],
        found[:, 13],
        found[:, 5],
        found[:, 6],
        found[:, 7],
        found[:, 8],
        found[:, 9].astype(np.int64),
    )
    tail_start = datetime.fromtimestamp(last, end.tzinfo)
    if end - tail_start > timedelta(minutes=1) and is_raw_kept(tail_start):
        tail = _raw(interface, tail_start, end)
        rows = Rows(*(np.concatenate([getattr(rows, name), getattr(tail, name)]) for name in Rows.__dataclass_fields__))
    return rows


def _in_steps(rows: Rows, start: datetime, end: datetime, step: int, source: str) -> Series:
    """Sum up into steps; a step in which nothing was counted has no rate."""
    first = int(start.timestamp() // step) * step
    count = int(np.ceil((end.timestamp() - first) / step))
    place = np.clip(np.ceil((rows.at - first) / step).astype(np.int64) - 1, 0, max(0, count - 1))

    def total(values: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.bincount(place, values, count).astype(np.float64) if len(place) else np.zeros(count)

    def peak(values: NDArray[np.float64]) -> NDArray[np.float64]:
        found = np.full(count, -np.inf)
        known = ~np.isnan(values)
        np.maximum.at(found, place[known], values[known])
        return np.where(np.isfinite(found), found, np.nan)

    milliseconds = total(rows.rated_ms)
    with np.errstate(divide="ignore", invalid="ignore"):
        inward = np.where(milliseconds > 0, total(rows.rated_in) * 8000 / milliseconds, np.nan)
        outward = np.where(milliseconds > 0, total(rows.rated_out) * 8000 / milliseconds, np.nan)
    # A reading longer than a step (polls were rarer then) covers the steps before its end as well.
    _spread(rows, inward, outward, first, step, count)
    at = first + step * (np.arange(count) + 1)
    marks = rows.at[(rows.flags & int(Flag.RESTARTED)) != 0] if source == "readings" else np.zeros(0)
    length = min(end.timestamp(), timezone.now().timestamp()) - start.timestamp()
    return Series(
        source,
        step,
        at.tolist(),
        _nullable(inward),
        _nullable(outward),
        _nullable(peak(rows.in_max)),
        _nullable(peak(rows.out_max)),
        total(rows.errors).astype(int).tolist(),
        total(rows.discards).astype(int).tolist(),
        _summary(inward, rows.in_octets, rows.in_max),
        _summary(outward, rows.out_octets, rows.out_max),
        float(min(1.0, rows.rated_ms.sum() / 1000 / length)) if length > 0 else 0.0,
        [int(mark) for mark in marks],
    )


def _spread(
    rows: Rows, inward: NDArray[np.float64], outward: NDArray[np.float64], first: int, step: int, count: int
) -> None:
    """Let readings that are longer than a step fill the steps before their end, in place."""
    for row in np.flatnonzero(rows.rated_ms > 1500 * step):
        at, rated_ms = rows.at[row], rows.rated_ms[row]
        last = min(count - 1, int(np.ceil((at - first) / step)) - 1)
        since = max(0, int((at - rated_ms / 1000 - first) / step + 0.5))
        inward[since : last + 1] = rows.rated_in[row] * 8000 / rated_ms
        outward[since : last + 1] = rows.rated_out[row] * 8000 / rated_ms


def _nullable(values: NDArray[np.float64]) -> list[float | None]:
    return [None if np.isnan(value) else round(float(value), 1) for value in values]


def _summary(rates: NDArray[np.float64], octets: NDArray[np.float64], peaks: NDArray[np.float64]) -> Summary:
    known = rates[~np.isnan(rates)]
    highest = peaks[~np.isnan(peaks)]
    if not len(known):
        return Summary(None, None, None, None, int(octets.sum()))
    return Summary(
        float(known.min()),
        float(known.mean()),
        float(np.percentile(known, 95)),
        float(highest.max()) if len(highest) else float(known.max()),
        int(octets.sum()),
    )


def gaps(device: int, start: datetime, end: datetime) -> list[Gap]:
    """Gaps of a device that touch a time."""
    mine = Q(device_id=device) | Q(device_id=None)
    return list(Gap.objects.filter(mine, start__lt=end).filter(Q(end=None) | Q(end__gt=start)).order_by("start")[:500])


def speeds(interface: int, start: datetime, end: datetime) -> list[InterfaceSpeed]:
    """The speeds in force from start to end, the first one from before."""
    before = InterfaceSpeed.objects.filter(interface_id=interface, since__lte=start).order_by("-since")[:1]
    within = InterfaceSpeed.objects.filter(interface_id=interface, since__gt=start, since__lt=end).order_by("since")
    return [*before, *within]


@dataclass(slots=True)
class Counted:
    """One reading as it is stored."""

    at: datetime
    in_octets: int
    out_octets: int
    in_packets: int
    out_packets: int
    errors: int
    discards: int
    elapsed_ms: int
    flags: int


def reading_at(interface: int, at: datetime) -> Counted | None:
    """The reading that covers a time: the first one that ends at or after it, within an hour."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT at, in_octets, out_octets, in_packets, out_packets, in_errors + out_errors, in_discards + out_discards,"
            " elapsed_ms, flags FROM readings_reading WHERE interface_id = %s AND at >= %s AND at < %s ORDER BY at LIMIT 1",
            [interface, at, at + timedelta(hours=1)],
        )
        row = cursor.fetchone()
    return Counted(*row) if row else None
