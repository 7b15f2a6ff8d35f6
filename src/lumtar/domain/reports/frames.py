"""Stored history as frames: what the collector would have shown to the rules, poll after poll."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from lumtar.core.measures import Counts, Measure, Polls, measure_of
from lumtar.core.measures.components import Components
from lumtar.core.rules import Frame
from lumtar.domain.inventory.models import Component, Device, Interface
from lumtar.domain.readings import bulk, sums
from lumtar.domain.readings.models import Gap

READINGS_FOR = timedelta(hours=26)
"""Up to so long a time is gone through reading by reading, a longer one by means of five minutes."""
FIVE_MINUTES_S = 300
SINCE_BITS = 33
"""Of a number that puts subjects and seconds of the epoch in one order."""

Numbers = NDArray[np.int64]
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class History:
    """Frames of some subjects over a time. ``step_s`` is 0 if they go from reading to reading."""

    subjects: list[int]
    frame: Frame
    step_s: int


def of_measure(name: str, subjects: Sequence[int], start: datetime, end: datetime) -> History:
    """The values of a measure of some subjects of its kind, from start to end."""
    measure = measure_of(name)
    return OF_KIND[measure.subject](measure, sorted(subjects), start, end)


def _interfaces(measure: Measure, subjects: list[int], start: datetime, end: datetime) -> History:
    step = 0 if end - start <= READINGS_FOR else FIVE_MINUTES_S
    # Where every reading was void nothing was counted, which is not the same as zero; rates and shares know that by themselves.
    knows = bool(
        np.isnan(measure.of(Counts.of({}, np.ones(1), np.ones(1), interface=np.zeros(1, np.int64), seconds=0.0)))[0]
    )
    void = () if knows else ("readings", "void_readings")
    names = tuple(dict.fromkeys((*measure.needs, "elapsed_ms", *void)))
    rows = sums.read(subjects, start, end, step or 1, names).rows
    into, out = _speeds(subjects, rows["interface"], rows["at"])
    columns = {name: rows[name] for name in names}
    counts = Counts.of(columns, into, out, interface=rows["interface"], seconds=0.0)
    values = measure.of(counts)
    if void:
        values = np.where(rows["readings"] > rows["void_readings"], values, np.nan)
    planned = dict(Interface.objects.filter(pk__in=subjects).values_list("pk", "device__interval_s"))
    interval = np.array([max(step, planned.get(each, 60)) for each in subjects], np.float64)
    return _history(measure, subjects, rows["interface"], rows["at"], values, interval, step)


def _speeds(subjects: list[int], interface: Numbers, at: Floats) -> tuple[Floats, Floats]:
    """The speeds in force at some times, bits per second in and out; 0 where none is known."""
    sql = f"""SELECT interface_id, date_part('epoch', since), in_bps::float8, out_bps::float8 FROM inventory_interfacespeed
        WHERE {bulk.AMONG}"""
    kinds = [("interface", "i8"), ("since", "f8"), ("in", "f8"), ("out", "f8")]
    known = bulk.fetch(sql, {"only": subjects}, kinds)
    known = known[np.lexsort((known["since"], known["interface"]))]
    if not len(known) or not len(interface):
        return np.zeros(len(interface)), np.zeros(len(interface))
    place = np.searchsorted(_key(known["interface"], known["since"]), _key(interface, at), side="right") - 1
    mine = (place >= 0) & (known["interface"][place] == interface)
    return np.where(mine, known["in"][place], 0.0), np.where(mine, known["out"][place], 0.0)


def _key(interface: Numbers, at: Floats) -> Numbers:
    return (interface.astype(np.int64) << SINCE_BITS) + at.astype(np.int64)


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
    device, at, round_trip = np.concatenate(devices), np.concatenate(times), np.concatenate(rtt)
    polls = Polls(np.isnan(round_trip).astype(np.float64), round_trip, ({},) * len(device))
    order = np.lexsort((at, device))
    interval = np.array([planned.get(each, 60) for each in subjects], np.float64)
    return _history(measure, subjects, device[order], at[order], measure.of(polls)[order], interval, 0)


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


OF_KIND = {"interface": _interfaces, "device": _devices, "component": _components}
