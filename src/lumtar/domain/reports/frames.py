"""Stored history as frames: what the collector would have shown to the rules, poll after poll."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from lumtar.core.measures import Counts, Measure, Polls, measure_of
from lumtar.core.measures.components import Components
from lumtar.core.negotiated import fastest_until, is_half
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Frame
from lumtar.domain.flows.levels import SHORT
from lumtar.domain.inventory import lately
from lumtar.domain.inventory.models import Component, Device, Interface
from lumtar.domain.paths import judging
from lumtar.domain.paths import levels as path_levels
from lumtar.domain.paths import store as path_store
from lumtar.domain.readings import bulk, group_totals, speeds, sums
from lumtar.domain.readings.models import Gap
from lumtar.domain.reports import watched_traffic

READINGS_FOR = timedelta(hours=26)
"""Up to so long a time is gone through reading by reading, a longer one by means of five minutes."""
FIVE_MINUTES_S, HOUR_S = 300, 3600

Numbers = NDArray[np.int64]
Floats = NDArray[np.float64]
Speeds = NDArray[np.void]
"""What domain/readings/speeds.py knows of some interfaces."""


@dataclass(frozen=True, slots=True)
class History:
    """Frames of some subjects over a time. ``step_s`` is 0 if they go from reading to reading."""

    subjects: list[int]
    frame: Frame
    step_s: int


NOT_KEPT = (
    "How this was is not kept as a value over time, so it cannot be rehearsed. It calls nobody until it has a call plan: "
    "save it without one, and see for some days what it would have told."
)


def of_measure(name: str, subjects: Sequence[int], start: datetime, end: datetime) -> History:
    """The values of a measure of some subjects of its kind, from start to end.

    Raises
    ------
    Refusal
        if values of this kind are not kept over time
    """
    measure = measure_of(name)
    if measure.subject not in OF_KIND:
        raise Refusal(NOT_KEPT)
    return OF_KIND[measure.subject](measure, sorted(subjects), start, end)


def _interfaces(measure: Measure, subjects: list[int], start: datetime, end: datetime) -> History:
    step = 0 if end - start <= READINGS_FOR else FIVE_MINUTES_S
    # Where every reading was void nothing was counted, which is not the same as zero; rates and shares know that by themselves.
    knows = bool(
        np.isnan(measure.of(Counts.of({}, np.ones(1), np.ones(1), interface=np.zeros(1, np.int64), seconds=0.0)))[0]
    )
    void = () if knows else ("readings", "void_readings")
    counted = (name for name in measure.needs if name not in NEGOTIATED)
    names = tuple(dict.fromkeys((*counted, "elapsed_ms", *void)))
    rows = sums.read(subjects, start, end, step or 1, names).rows
    known = speeds.known(subjects)
    into, out = (speeds.at(known, way, rows["interface"], rows["at"]) for way in ("in", "out"))
    columns = {name: rows[name] for name in names}
    for name in NEGOTIATED.keys() & set(measure.needs):
        columns[name] = NEGOTIATED[name](known, rows["interface"], rows["at"])
    counts = Counts.of(columns, into, out, interface=rows["interface"], seconds=0.0)
    values = measure.of(counts)
    if void:
        values = np.where(rows["readings"] > rows["void_readings"], values, np.nan)
    planned = dict(Interface.objects.filter(pk__in=subjects).values_list("pk", "device__interval_s"))
    interval = np.array([max(step, planned.get(each, 60)) for each in subjects], np.float64)
    return _history(measure, subjects, rows["interface"], rows["at"], values, interval, step)


def _rows(numbers: Numbers, number: int) -> slice:
    """Where a number is among rising ones."""
    first, end = np.searchsorted(numbers, [number, number + 1])
    return slice(int(first), int(end))


def reaching(name: str, limit: float, subjects: Sequence[int], start: datetime, end: datetime) -> list[int]:
    """Those of some subjects that may have been above a limit in a time; all of them where that cannot be told from the hours."""
    measure = measure_of(name)
    if measure.bound is None or end - start <= READINGS_FOR:
        return list(subjects)
    rows = sums.read(subjects, start, end, HOUR_S, measure.bound_needs).rows
    owner = np.array(sorted(subjects), np.int64)
    # Against the lowest speed that each had: within an hour it may have been another one.
    known, place = speeds.known(subjects), np.searchsorted(owner, rows["interface"])
    columns = {each: rows[each] for each in measure.bound_needs}
    into, out = (_lowest_speed(known, owner, way)[place] for way in ("in", "out"))
    counts = Counts.of(columns, into, out, interface=rows["interface"], seconds=float(HOUR_S))
    # Where the bound is not known the measure is not known either.
    return [int(each) for each in owner[np.unique(place[measure.bound(counts) >= limit])]]


def _lowest_speed(known: Speeds, subjects: Numbers, way: str) -> Floats:
    """The lowest speed that was ever in force of each subject; 0 where none is known."""
    known = known[known[way] > 0]
    lowest = np.full(len(subjects), np.inf)
    np.minimum.at(lowest, np.searchsorted(subjects, known["interface"]), known[way])
    return np.where(np.isfinite(lowest), lowest, 0.0)


def _port_bps(known: Speeds, interface: Numbers, at: Floats) -> Floats:
    return speeds.at(known, "port", interface, at)


def _fastest_bps(known: Speeds, interface: Numbers, at: Floats) -> Floats:
    fastest = speeds.at(known, "port", interface, at)
    numbers, counts = np.unique(known["interface"], return_counts=True)
    # Nearly every port has had one speed for ever.
    for number in numbers[counts > 1].tolist():
        mine, rows = known[_rows(known["interface"], number)], _rows(interface, number)
        fastest[rows] = fastest_until(mine["since"], mine["port"], at[rows])
    return fastest


def _half_duplex(known: Speeds, interface: Numbers, at: Floats) -> Floats:
    half = np.full(len(interface), np.nan)
    for number, told in lately.duplex_since(np.unique(interface).tolist()).items():
        rows = _rows(interface, number)
        since, duplex = (np.array(each) for each in zip(*told, strict=True))
        place = np.searchsorted(since, at[rows], side="right") - 1
        half[rows] = np.where(place >= 0, is_half(duplex[place]), np.nan)
    return half


NEGOTIATED = {"port_bps": _port_bps, "fastest_bps": _fastest_bps, "half_duplex": _half_duplex}
"""What measures need beside what is stored of each reading."""


def _devices(measure: Measure, subjects: list[int], start: datetime, end: datetime) -> History:
    """Polls that were answered, and those that were not as the gaps tell of them."""
    sql = """SELECT device_id, date_part('epoch', at), rtt_ms FROM readings_devicereading
        WHERE device_id = ANY(%(only)s) AND at > %(start)s AND at <= %(end)s"""
    kinds = [("device", "i8"), ("at", "f8"), ("rtt", "f8")]
    rows = bulk.fetch(sql, {"only": subjects, "start": start, "end": end}, kinds)
    planned = dict(Device.objects.filter(pk__in=subjects).values_list("pk", "interval_s"))
    devices, times, rtt = [rows["device"]], [rows["at"]], [rows["rtt"]]
    silent = Gap.objects.filter(device_id__in=subjects, reason=Gap.Reason.SILENT, start__lt=end).exclude(end__lte=start)
    for gap in silent:
        assert gap.device_id is not None
        every, until = planned[gap.device_id], min(gap.end or end, end).timestamp()
        # A gap begins with the last answer; the poll that was answered again ends it.
        missed = np.arange(max(gap.start, start).timestamp() + every, until - every / 2, every)
        devices.append(np.full(len(missed), gap.device_id))
        times.append(missed)
        rtt.append(np.full(len(missed), np.nan))
    order = np.lexsort((np.concatenate(times), np.concatenate(devices)))
    device, at, round_trip = (np.concatenate(each)[order] for each in (devices, times, rtt))
    is_silent = np.isnan(round_trip)
    unknown = np.full(len(device), np.nan)
    uptime = _uptime(subjects, device, at, end) if "uptime_s" in measure.needs else unknown
    went = _gone(subjects, device, at, start, end) if "gone" in measure.needs else unknown
    polls = Polls(
        is_silent.astype(np.float64),
        round_trip,
        np.where(is_silent, np.nan, uptime),
        np.where(is_silent, np.nan, went),
        ({},) * len(device),
    )
    interval = np.array([planned.get(each, 60) for each in subjects], np.float64)
    return _history(measure, subjects, device, at, measure.of(polls), interval, 0)


def _uptime(subjects: list[int], device: Numbers, at: Floats, end: datetime) -> Floats:
    """Seconds since each device's last start before each time; NaN before the first start that is known."""
    uptime = np.full(len(device), np.nan)
    for number, starts in lately.starts(subjects, end).items():
        rows, times = _rows(device, number), np.array(starts)
        place = np.searchsorted(times, at[rows], side="right") - 1
        uptime[rows] = np.where(place >= 0, at[rows] - times[place], np.nan)
    return uptime


def _gone(subjects: list[int], device: Numbers, at: Floats, start: datetime, end: datetime) -> Floats:
    """How many interfaces of each device were gone at each time."""
    went = np.zeros(len(device))
    for number, spans in lately.gone_spans(subjects, start, end).items():
        rows, (since, until) = _rows(device, number), np.array(spans).T
        there = (since <= at[rows][:, None]) & (at[rows][:, None] < until)
        went[rows] = there.sum(axis=1)
    return went


def _components(measure: Measure, subjects: list[int], start: datetime, end: datetime) -> History:
    sql = """SELECT component_id, date_part('epoch', at), value FROM readings_componentreading
        WHERE component_id = ANY(%(only)s) AND at > %(start)s AND at <= %(end)s"""
    rows = bulk.fetch(
        sql, {"only": subjects, "start": start, "end": end}, [("component", "i8"), ("at", "f8"), ("value", "f8")]
    )
    rows = rows[np.lexsort((rows["at"], rows["component"]))]
    known = {
        pk: (kind, unit)
        for pk, kind, unit in Component.objects.filter(pk__in=subjects).values_list("pk", "kind", "unit")
    }
    kinds = np.array([known[each][0] for each in subjects])
    units = np.array([known[each][1] for each in subjects])
    place = np.searchsorted(np.array(subjects, np.int64), rows["component"])
    values = measure.of(Components(kinds[place], units[place], rows["value"])) if len(rows) else np.zeros(0)
    return _history(measure, subjects, rows["component"], rows["at"], values, np.full(len(subjects), 60.0), 0)


def _groups(measure: Measure, subjects: list[int], start: datetime, end: datetime) -> History:
    """What groups carried together, in steps of a minute, or of five in a longer time."""
    step = 0 if end - start <= READINGS_FOR else FIVE_MINUTES_S
    each = [group_totals.of_group(pk, start, end, step) for pk in subjects]
    owner = np.repeat(np.array(subjects, np.int64), [len(one.at) for one in each])
    at, values = (np.concatenate([np.zeros(0), *parts]) for parts in (
        [one.at for one in each], [measure.of(one.totals) for one in each],
    ))  # fmt: skip
    interval = np.array([float(one.step_s) for one in each])
    return _history(measure, subjects, owner, at, values, interval, step)


def _history(
    measure: Measure, subjects: list[int], owner: Numbers, at: Floats, values: Floats, interval: Floats, step_s: int
) -> History:
    """Rows in the order of subject and time as a frame: its k-th instant is the k-th value of each subject."""
    column = np.searchsorted(np.array(subjects, np.int64), owner)
    begins = np.searchsorted(column, np.arange(len(subjects)))
    instant = np.arange(len(column)) - begins[column] if len(column) else column
    shape = (int(instant.max(initial=-1)) + 1, len(subjects))
    moments, grid = np.zeros(shape), np.full(shape, np.nan)
    moments[instant, column], grid[instant, column] = at, values
    frame = Frame(np.arange(len(subjects)), moments, interval, {measure.name: grid})
    return History(subjects, frame, step_s)


def _traffic(measure: Measure, subjects: list[int], start: datetime, end: datetime) -> History:
    """Watched traffic, in steps of a minute, or of an hour in a longer time."""
    step = 60 if end - start <= SHORT else HOUR_S
    each = [watched_traffic.history(pk, start, end, step) for pk in subjects]
    owner = np.repeat(np.array(subjects, np.int64), [len(at) for at, _ in each])
    at, values = (np.concatenate([np.zeros(0), *parts]) for parts in (
        [at for at, _ in each], [measure.of(frame) for _, frame in each],
    ))  # fmt: skip
    return _history(measure, subjects, owner, at, values, np.full(len(subjects), float(step)), step if step > 60 else 0)


def _paths(measure: Measure, subjects: list[int], start: datetime, end: datetime) -> History:
    """Paths, minute by minute, or in hours in a longer time."""
    table, step = path_levels.level_of(start, end)
    rows = path_store.read(subjects, start, end, table)
    values = measure.of(judging.frame_of(rows))
    ends = rows["at"] + step
    return _history(
        measure, subjects, rows["path"], ends, values, np.full(len(subjects), float(step)), step if step > 60 else 0
    )


OF_KIND = {
    "interface": _interfaces,
    "device": _devices,
    "component": _components,
    "group": _groups,
    "traffic": _traffic,
    "path": _paths,
}
