"""Forecasts from the daily 95th percentiles that days keep."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from lumtar.core.forecast import MOST_DAYS, Trends, Verdict, reached, trends
from lumtar.core.percentiles import SLOTS, daily_of_totals, decode
from lumtar.domain.readings import bulk, rollups, sums
from lumtar.domain.readings.totals import speeds_of

SQL = f"""SELECT interface_id, date_part('epoch', at), coalesce(in_p95_bps, 'NaN')::float8, coalesce(out_p95_bps, 'NaN')::float8
    FROM readings_day WHERE {bulk.AMONG} AND at >= %(start)s AND at < %(end)s"""
DAY = 86400
AT_ONCE = 50
"""Interfaces whose days are read at once."""


@dataclass(frozen=True, slots=True)
class ReachedOn:
    """When a share of the speed is reached: most likely, at the earliest, and at the latest if it surely comes."""

    share: int
    on: date
    earliest: date
    latest: date | None


@dataclass(frozen=True, slots=True)
class Forecast:
    """One direction of an interface. ``level`` is what its busiest weekday reaches now, ``slope`` bits per second a day.

    Shares are of the speed in per cent, None where it is not known.
    """

    interface_id: int
    way: str
    verdict: Verdict
    days: int
    speed_bps: float
    level_bps: float | None
    level_percent: float | None
    slope_bps: float | None
    lowest_bps: float | None
    highest_bps: float | None
    reached: list[ReachedOn]


def daily(interfaces: Sequence[int], until: datetime) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Daily 95th percentiles in and out, (interfaces, days) in bits per second; NaN where nothing was measured."""
    end = rollups.day_of(until)
    start = end - timedelta(days=MOST_DAYS)
    columns = [("interface", "i8"), ("at", "f8"), ("in", "f8"), ("out", "f8")]
    rows = bulk.fetch(SQL, {"only": list(interfaces), "start": start, "end": end}, columns)
    peaks = np.full((2, len(interfaces), MOST_DAYS), np.nan)
    order = np.argsort(interfaces)
    line = order[np.searchsorted(np.asarray(interfaces)[order], rows["interface"])]
    place = np.round((rows["at"] - start.timestamp()) / DAY).astype(np.int64)
    for way, name in enumerate(("in", "out")):
        peaks[way, line, place] = rows[name]
    return peaks[0], peaks[1]


def of(interfaces: Sequence[int], until: datetime) -> list[Forecast]:
    """Forecasts of both directions of some interfaces, as they could be made at a time."""
    if not interfaces:
        return []
    ids = np.array(interfaces, np.int64)
    forecasts = []
    for way, values, speeds in zip(("in", "out"), daily(interfaces, until), speeds_of(ids, until), strict=True):
        trend = trends(values)
        forecasts += [
            _forecast(trend, row, int(ids[row]), way, float(speeds[row]), until.date()) for row in range(len(ids))
        ]
    return forecasts


def together(interfaces: Sequence[int], until: datetime) -> list[Forecast]:
    """Forecasts of both directions of what some interfaces carry together, against the sum of their speeds.

    Their interface is 0. A link with both its ends among them counts at both.
    """
    if not interfaces:
        return []
    end = rollups.day_of(until)
    start = end - timedelta(days=MOST_DAYS)
    shape = (2, MOST_DAYS, SLOTS)
    totals, measured = np.zeros(shape), np.zeros(shape, np.int64)
    for first in range(0, len(interfaces), AT_ONCE):
        rows = sums.means_of_days(interfaces[first : first + AT_ONCE], start, end)
        days = np.round((rows["at"] - start.timestamp()) / DAY).astype(np.int64)
        for row, way in enumerate(("in", "out")):
            means = decode(rows[way])
            np.add.at(totals[row], days, np.nan_to_num(means))
            np.add.at(measured[row], days, ~np.isnan(means))
    forecasts = []
    for row, (way, speeds) in enumerate(zip(("in", "out"), speeds_of(np.unique(interfaces), until), strict=True)):
        trend = trends(daily_of_totals(totals[row], measured[row])[None, :])
        forecasts.append(_forecast(trend, 0, 0, way, float(speeds.sum()), until.date()))
    return forecasts


def _forecast(trend: Trends, row: int, interface: int, way: str, speed: float, today: date) -> Forecast:
    level, slope, lowest, highest = (
        float(getattr(trend, name)[row]) for name in ("level", "slope", "lowest", "highest")
    )
    verdict = trend.verdict[row]
    can_say = verdict in (Verdict.GROWS, Verdict.STEADY, Verdict.FALLS)
    # Days end with the one before; steady and falling ones reach only what they have reached already.
    dates = [
        ReachedOn(
            each.share,
            today + timedelta(days=each.days),
            today + timedelta(days=each.earliest),
            today + timedelta(days=each.latest) if each.latest is not None else None,
        )
        for each in (reached(level, slope, lowest, highest, speed) if can_say and speed else [])
        if verdict == Verdict.GROWS or each.days == 0
    ]
    return Forecast(
        interface_id=interface,
        way=way,
        verdict=verdict,
        days=int(trend.days[row]),
        speed_bps=speed,
        level_bps=_known(level),
        level_percent=_known(100 * level / speed) if speed else None,
        slope_bps=_known(slope),
        lowest_bps=_known(lowest),
        highest_bps=_known(highest),
        reached=dates,
    )


def _known(value: float) -> float | None:
    return None if np.isnan(value) else value
