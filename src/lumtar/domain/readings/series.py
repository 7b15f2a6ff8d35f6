"""Series for charts: rates over time, as exact as what is kept allows."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from django.db import connection
from django.db.models import Q
from django.utils import timezone
from numpy.typing import NDArray

from lumtar.core import percentiles
from lumtar.core.counters import Flag
from lumtar.core.levels import SECONDS, Kept, step_for
from lumtar.core.measures import rates
from lumtar.domain.inventory.models import InterfaceSpeed
from lumtar.domain.inventory.queries import Polled
from lumtar.domain.readings import retention, sums
from lumtar.domain.readings.models import Gap
from lumtar.domain.readings.rollups import COLUMNS
from lumtar.domain.readings.sums import Rows, Sums

MOST_POINTS = 1600
SHOWN = tuple(name for name in COLUMNS if name not in ("readings", "up_readings", "void_readings"))
"""What a chart and its figures are made from."""
Floats = NDArray[np.float64]


@dataclass(slots=True)
class Summary:
    """One direction in figures: rates in bits per second, weighted by the seconds that were measured; volumes in octets.

    ``p95`` is that of five-minute means; ``min`` and ``max`` are single readings.
    """

    min: float | None
    mean: float | None
    p95: float | None
    max: float | None
    volume: int
    packets: int
    unicast: int
    errors: int
    discards: int


@dataclass(slots=True)
class Series:
    """A chart's worth of points. ``at`` are the ends of steps of ``step_s`` seconds; None is no rate.

    ``larger_p95`` and ``both_p95`` are the 95th percentiles of the larger and of the sum of both directions' five-minute
    means; ``measured`` is the share of the time that was measured, from 0 to 1.
    """

    source: str
    step_s: int
    at: list[int]
    in_bps: list[float | None]
    out_bps: list[float | None]
    in_max_bps: list[float | None]
    out_max_bps: list[float | None]
    in_pps: list[float | None]
    out_pps: list[float | None]
    errors: list[int]
    discards: list[int]
    inward: Summary
    outward: Summary
    larger_p95: float | None
    both_p95: float | None
    measured: float
    restarts: list[int]


@dataclass(slots=True)
class Line:
    """One interface among several: mean rates over the steps of their chart; ``mean`` of both directions together."""

    interface_id: int
    mean: float
    in_bps: list[float | None]
    out_bps: list[float | None]


@dataclass(slots=True)
class Lines:
    """Several interfaces on one chart, and their total; a step that some of them did not measure counts those that did."""

    source: str
    step_s: int
    at: list[int]
    lines: list[Line]
    total: Line


def read(port: Polled, start: datetime, end: datetime, points: int = 800) -> Series:
    """Rates from start to end in at most so many points (see MOST_POINTS)."""
    kept = retention.kept(timezone.now())
    answer = _read([port.pk], port.interval_s, start, end, points, SHOWN, kept)
    rows, steps = answer.counted.rows, answer.steps
    inward, outward = steps.rates("in")[0], steps.rates("out")[0]
    if steps.step <= 300:
        begins = float(np.floor(start.timestamp() / 300) * 300)
        slots = max(1, int(np.ceil((end.timestamp() - begins) / 300)))
        means = [
            percentiles.means(rows["at"], rows["elapsed_ms"], rows[f"{way}_octets"], begins, slots)
            for way in ("in", "out")
        ]
    else:
        means = [each[0] for each in sums.five_minute_means([port.pk], start, end, kept)[1:]]
    length = min(end.timestamp(), timezone.now().timestamp()) - start.timestamp()
    restarted = (rows["flags"] & int(Flag.RESTARTED)) != 0
    return Series(
        source=answer.counted.coarsest,
        step_s=steps.step,
        at=steps.at,
        in_bps=_nullable(inward),
        out_bps=_nullable(outward),
        in_max_bps=_nullable(steps.highest("in_max_bps")),
        out_max_bps=_nullable(steps.highest("out_max_bps")),
        in_pps=_nullable(steps.packets("in")),
        out_pps=_nullable(steps.packets("out")),
        errors=steps.total(rows["in_errors"] + rows["out_errors"])[0].astype(int).tolist(),
        discards=steps.total(rows["in_discards"] + rows["out_discards"])[0].astype(int).tolist(),
        inward=_summary(rows, "in", means[0]),
        outward=_summary(rows, "out", means[1]),
        larger_p95=percentiles.percentile(np.fmax(*means)),
        both_p95=percentiles.percentile(means[0] + means[1]),
        measured=float(min(1.0, rows["elapsed_ms"].sum() / 1000 / length)) if length > 0 else 0.0,
        restarts=[int(at) for at in rows["at"][restarted]] if steps.step <= 3600 else [],
    )


def read_lines(interfaces: Sequence[int], start: datetime, end: datetime, points: int = 400) -> Lines:
    """Rates of several interfaces, and what they add up to."""
    answer = _read(interfaces, 60, start, end, points, sums.MEANS)
    steps = answer.steps
    inward, outward = steps.rates("in"), steps.rates("out")

    def together(rates: Floats) -> list[float | None]:
        known = ~np.isnan(rates)
        return _nullable(np.where(known.any(axis=0), np.nansum(rates, axis=0), np.nan))

    means = (np.nan_to_num(inward) + np.nan_to_num(outward)).sum(axis=1) / steps.count
    lines = [
        Line(interface, float(means[place]), _nullable(inward[place]), _nullable(outward[place]))
        for place, interface in enumerate(interfaces)
    ]
    total = Line(0, float(means.sum()), together(inward), together(outward))
    return Lines(answer.counted.coarsest, steps.step, steps.at, lines, total)


@dataclass(frozen=True, slots=True)
class _Read:
    counted: Sums
    steps: "_Steps"


def _read(
    interfaces: Sequence[int],
    interval_s: float,
    start: datetime,
    end: datetime,
    points: int,
    names: Sequence[str],
    kept: Sequence[Kept] = (),
) -> _Read:
    span = (end - start).total_seconds()
    step = step_for(span, max(10, min(points, MOST_POINTS)), interval_s)
    counted = sums.read(interfaces, start, end, step, names, kept)
    rows = counted.rows
    # Where polls were rarer than the steps asked for, a step is as long as a reading then.
    covered = rows["elapsed_ms"][rows["elapsed_ms"] > 0]
    usual = float(np.median(covered)) / 1000 if len(covered) else 0.0
    longest = max((SECONDS[piece.level] for piece in counted.pieces), default=0)
    step = step_for(0, 1, max(step, 0.9 * usual, longest))
    first = int(start.timestamp() // step) * step
    count = max(1, int(np.ceil((end.timestamp() - first) / step)))
    order = np.argsort(interfaces)
    line = order[np.searchsorted(np.asarray(interfaces)[order], rows["interface"])]
    column = np.clip(np.ceil((rows["at"] - first) / step).astype(np.int64) - 1, 0, count - 1)
    return _Read(counted, _Steps(tuple(interfaces), first, step, count, rows, line * count + column))


@dataclass(frozen=True, slots=True)
class _Steps:
    """Rows summed up into steps, one line an interface; a step in which nothing was counted has no rate."""

    interfaces: tuple[int, ...]
    first: int
    step: int
    count: int
    rows: Rows
    place: NDArray[np.int64]
    """The cell of each row, line by line."""

    @property
    def at(self) -> list[int]:
        return list(range(self.first + self.step, self.first + self.step * (self.count + 1), self.step))

    def total(self, values: NDArray[np.int64]) -> Floats:
        """Sums of one value a row."""
        totals = np.bincount(self.place, values.astype(np.float64), len(self.interfaces) * self.count)
        return np.asarray(totals.reshape(-1, self.count), np.float64)

    def rates(self, way: str) -> Floats:
        """Mean bits per second."""
        rows = self.rows
        milliseconds = self.total(rows["elapsed_ms"])
        rate = rates.bits_per_second(self.total(rows[f"{way}_octets"]), milliseconds)
        # A reading longer than a step (polls were rarer then) covers the steps before its end as well.
        for row in np.flatnonzero(rows["elapsed_ms"] > 1500 * self.step):
            line, column = divmod(int(self.place[row]), self.count)
            since = rows["at"][row] - rows["elapsed_ms"][row] / 1000
            begins = max(0, int((since - self.first) / self.step + 0.5))
            rate[line, begins : column + 1] = rates.bps(rows[f"{way}_octets"][row], rows["elapsed_ms"][row])
        return np.asarray(rate)

    def packets(self, way: str) -> Floats:
        """Mean packets per second of the first interface."""
        rows = self.rows
        milliseconds = self.total(rows["elapsed_ms"] + rows["bridged_ms"])
        return np.asarray(rates.per_second(self.total(rows[f"{way}_packets"]), milliseconds)[0])

    def highest(self, name: str) -> Floats:
        """The highest single reading of each step, of the first interface."""
        highest_values = np.full(len(self.interfaces) * self.count, -np.inf)
        values = self.rows[name]
        known = ~np.isnan(values)
        np.maximum.at(highest_values, self.place[known], values[known])
        return np.where(np.isfinite(highest_values), highest_values, np.nan)[: self.count]


def _nullable(values: Floats) -> list[float | None]:
    rounded: list[float | None] = np.round(values, 1).tolist()
    return [None if value != value else value for value in rounded] if np.isnan(values).any() else rounded


def _summary(rows: Rows, way: str, means: Floats) -> Summary:
    milliseconds = int(rows["elapsed_ms"].sum())
    lowest, highest = (rows[f"{way}_{end}_bps"] for end in ("min", "max"))
    octets = int(rows[f"{way}_octets"].sum())
    return Summary(
        min=float(np.nanmin(lowest)) if (~np.isnan(lowest)).any() else None,
        mean=rates.bps(octets, milliseconds),
        p95=percentiles.percentile(means),
        max=float(np.nanmax(highest)) if (~np.isnan(highest)).any() else None,
        volume=octets + int(rows[f"bridged_{way}_octets"].sum()),
        packets=int(rows[f"{way}_packets"].sum()),
        unicast=int(rows[f"{way}_unicast"].sum()),
        errors=int(rows[f"{way}_errors"].sum()),
        discards=int(rows[f"{way}_discards"].sum()),
    )


def gaps(device: int, start: datetime, end: datetime) -> list[Gap]:
    """Gaps of a device that touch a time."""
    mine = Q(device_id=device) | Q(device_id=None)
    return list(Gap.objects.filter(mine, start__lt=end).filter(Q(end=None) | Q(end__gt=start)).order_by("start")[:500])


def speed_at(interface: int, at: datetime) -> InterfaceSpeed | None:
    """The speeds in force at a time."""
    return InterfaceSpeed.objects.filter(interface_id=interface, since__lte=at).order_by("-since").first()


def newest_speeds(interfaces: Sequence[int]) -> dict[int, InterfaceSpeed]:
    """The speeds in force now, by interface."""
    speeds = InterfaceSpeed.objects.filter(interface_id__in=interfaces).order_by("interface_id", "-since")
    return {speed.interface_id: speed for speed in speeds.distinct("interface_id")}


@dataclass(slots=True)
class OneReading:
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


def reading_at(interface: int, at: datetime) -> OneReading | None:
    """The reading that covers a time: the first one that ends at or after it, within an hour."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT at, in_octets, out_octets, in_packets, out_packets, in_errors + out_errors, in_discards + out_discards,"
            " elapsed_ms, flags FROM readings_reading WHERE interface_id = %s AND at >= %s AND at < %s ORDER BY at LIMIT 1",
            [interface, at, at + timedelta(hours=1)],
        )
        row = cursor.fetchone()
    return OneReading(*row) if row else None
