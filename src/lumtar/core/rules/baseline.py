"""The range that is normal for a subject at an hour of the week: learned from weeks, or taken from yesterday or last week."""

from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
WEEK_H, HOUR_S, SLOT_S = 168, 3600, 300
SLOTS_H = HOUR_S // SLOT_S
EPOCH_WEEKDAY_H = 72
"""The epoch was a Thursday: hours by which it lies after the Monday before it."""
MOST_WEEKS, LEAST_WEEKS = 8, 2
MAD_TO_SIGMA = 1.4826
"""The median absolute deviation of a normal distribution times this is its standard deviation."""
LEAST_SPREAD = 0.02
"""Of the median: what varies less than by so much is not told apart."""
STEP = 4.0
"""A step from one hour to the next is this many spreads wide, so that half of it is never unusual."""
COVERED = 0.5
"""A week of whose hours fewer were measured teaches nothing."""
BLOCK_S = 6 * HOUR_S
LEAST_TOLERANCE = 3.0


class Reference(StrEnum):
    """What values are compared with before they are held against a limit."""

    NONE = ""
    """Nothing: limits are those of the values themselves."""
    LEARNED = "learned"
    """The usual range of the hour of the week; limits are multiples of its spread."""
    YESTERDAY = "yesterday"
    """The same hour of the day before; limits are per cent of its value."""
    LAST_WEEK = "last_week"
    """The same hour of the week before; limits are per cent of its value."""


WORDS = {
    Reference.LEARNED: "usual range",
    Reference.YESTERDAY: "yesterday at this time",
    Reference.LAST_WEEK: "last week at this time",
}
UNITS = {Reference.LEARNED: "× spread", Reference.YESTERDAY: "%", Reference.LAST_WEEK: "%"}


@dataclass(frozen=True, slots=True)
class Baselines:
    """The normal range of n subjects.

    Attributes
    ----------
    median : (n, 168) of each hour of the week from Monday 00:00 UTC; NaN where nothing is known
    scale : (n, 168) what one unit of a limit is worth
    weeks : (n,) of how many weeks it was learned
    """

    median: NDArray[np.float32]
    scale: NDArray[np.float32]
    weeks: NDArray[np.int16]

    @classmethod
    def blank(cls, size: int) -> "Baselines":
        """Nothing is known of so many subjects."""
        nothing = np.full((size, WEEK_H), np.nan, np.float32)
        return cls(nothing, nothing.copy(), np.zeros(size, np.int16))

    def at(self, slots: NDArray[np.int64], at: Floats) -> tuple[Floats, Floats]:
        """Median and scale of some subjects at a second of the epoch each, between the middles of hours interpolated."""
        hours = at / HOUR_S + EPOCH_WEEKDAY_H - 0.5
        first = np.floor(hours)
        share = hours - first
        here, following = (first % WEEK_H).astype(np.int64), ((first + 1) % WEEK_H).astype(np.int64)

        def between(table: NDArray[np.float32]) -> Floats:
            early, late = table[slots, here].astype(np.float64), table[slots, following].astype(np.float64)
            mixed = early * (1 - share) + late * share
            # An hour of which nothing is known leaves its neighbour as it is.
            return np.where(np.isnan(mixed), np.where(np.isnan(early), late, early), mixed)

        return between(self.median), between(self.scale)

    def score(self, slots: NDArray[np.int64], at: Floats, values: Floats) -> Floats:
        """How far values are from normal, in units of the scale; NaN where nothing is known."""
        median, scale = self.at(slots, at)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(scale > 0, (values - median) / scale, np.nan)

    def grown(self, size: int) -> "Baselines":
        """The same with room for more subjects."""
        more = Baselines.blank(max(0, size - len(self.weeks)))
        names = ("median", "scale", "weeks")
        return Baselines(*(np.concatenate([getattr(self, name), getattr(more, name)]) for name in names))


def hour_of_week(at: Floats) -> NDArray[np.int64]:
    """Hours since Monday 00:00 UTC."""
    return ((at // HOUR_S + EPOCH_WEEKDAY_H) % WEEK_H).astype(np.int64)


def grid(at: Floats, values: Floats, end: float, weeks: int, without: Collection[tuple[float, float]] = ()) -> Floats:
    """Values as means of five minutes, by week and slot of the week: (weeks, 2016, n), the last week the newest.

    Parameters
    ----------
    at, values : (t, n); 0 and NaN are nothing
    end : second of the epoch at which the last week ends
    without : times (from, until) that are left out, such as days that were exceptional
    """
    slots = WEEK_H * SLOTS_H
    place = np.floor((at - end) / SLOT_S).astype(np.int64) + weeks * slots
    known = (place >= 0) & (place < weeks * slots) & (at > 0) & ~np.isnan(values)
    for start, until in without:
        known &= ~((at > start) & (at <= until))
    column = np.broadcast_to(np.arange(at.shape[1]), at.shape)[known]
    size = at.shape[1]
    cell = place[known] * size + column
    total = np.bincount(cell, values[known], weeks * slots * size)
    count = np.bincount(cell, minlength=weeks * slots * size)
    with np.errstate(invalid="ignore", divide="ignore"):
        return (total / np.where(count > 0, count, np.nan)).reshape(weeks, slots, size)


def _median(values: Floats) -> Floats:
    """The median along the first axis, of what is not NaN; many times as fast as numpy's own."""
    ordered = np.sort(values, axis=0)
    count = (~np.isnan(values)).sum(axis=0)
    low, high = np.maximum(0, (count - 1) // 2), count // 2
    high = np.minimum(high, len(values) - 1)
    take = np.take_along_axis
    middle = (take(ordered, low[None], 0)[0] + take(ordered, high[None], 0)[0]) / 2
    return np.where(count > 0, middle, np.nan)


def learn(weekly: Floats, end: float) -> Baselines:
    """Usual ranges from weeks of five-minute means, robust against what was exceptional and corrected for growth.

    Each week is divided by its own level first, so that a network that grows does not look unusual; the level of the last
    two weeks is what holds now.

    Parameters
    ----------
    weekly : (w, 2016, n) as :func:`grid` gives them, from ``end`` backwards
    """
    weeks, _, size = weekly.shape
    hours = (~np.isnan(weekly)).reshape(weeks, WEEK_H, SLOTS_H, size).any(axis=2)
    covered = hours.mean(axis=1) >= COVERED
    used = np.where(covered[:, None, :], weekly, np.nan)
    usual = _median(used)
    with np.errstate(invalid="ignore", divide="ignore"):
        ratio = np.where(np.abs(usual) > 0, used / usual, np.nan)
    level = np.stack([_median(each) for each in ratio])
    level = np.where(np.isnan(level) | (level <= 0), 1.0, level)
    used = used / level[:, None, :]
    current = _median(np.where(covered, level, np.nan)[-2:])
    current = np.where(np.isnan(current), 1.0, current)
    # The first slot is that of ``end``, not Monday's.
    by_hour = np.moveaxis(used.reshape(weeks, WEEK_H, SLOTS_H, size), 1, 0).reshape(WEEK_H, weeks * SLOTS_H, size)
    median = np.stack([_median(each) for each in by_hour])
    spread = np.stack([_median(np.abs(each - middle)) for each, middle in zip(by_hour, median, strict=True)])
    widest = np.fmax(np.fmax(np.roll(spread, 1, axis=0), spread), np.roll(spread, -1, axis=0))
    typical = np.abs(np.where(np.isnan(median), 0.0, median)).mean(axis=0)
    scale = np.fmax(MAD_TO_SIGMA * widest, LEAST_SPREAD * np.fmax(np.abs(median), typical))
    # Where a day begins with a step, what lies between the two hours says nothing of the minute in which it comes.
    steps = np.fmax(np.abs(np.roll(median, 1, axis=0) - median), np.abs(np.roll(median, -1, axis=0) - median))
    scale = np.fmax(scale, steps / STEP)
    count = covered.sum(axis=0)
    enough = count >= LEAST_WEEKS
    return _by_monday(np.where(enough, median * current, np.nan), np.where(enough, scale * current, np.nan), count, end)


def _by_monday(median: Floats, scale: Floats, weeks: NDArray[np.int64], end: float) -> Baselines:
    """(168, n) from the hour of ``end`` on, turned so that Monday's first hour comes first."""
    first = int(hour_of_week(np.array([end]))[0])
    turned = [np.roll(each, first, axis=0).T.astype(np.float32) for each in (median, scale)]
    return Baselines(np.ascontiguousarray(turned[0]), np.ascontiguousarray(turned[1]), weeks.astype(np.int16))


def as_before(weekly: Floats, end: float, reference: Reference) -> Baselines:
    """What was measured a day or a week before, hour by hour; one unit of a limit is a per cent of it.

    Parameters
    ----------
    weekly : (w, 2016, n); the last one is looked at
    """
    size = weekly.shape[2]
    hours = _median(np.moveaxis(weekly[-1].reshape(WEEK_H, SLOTS_H, size), 1, 0))
    if reference is Reference.YESTERDAY:
        hours = np.tile(hours[-24:], (7, 1))
    known = ~np.isnan(hours)
    typical = np.abs(np.where(known, hours, 0.0)).sum(axis=0) / np.maximum(1, known.sum(axis=0))
    # Of next to nothing any change is many per cent: a twentieth of what is typical is the least that is divided by.
    scale = np.fmax(np.abs(hours), 0.05 * typical) / 100
    return _by_monday(hours, np.where(known & (scale > 0), scale, np.nan), np.asarray(known.any(axis=0), np.int64), end)


def baselines(weekly: Floats, end: float, reference: Reference) -> Baselines:
    """The normal ranges that a reference stands for."""
    return learn(weekly, end) if reference is Reference.LEARNED else as_before(weekly, end, reference)


def weeks_for(reference: Reference) -> int:
    """How many weeks a reference looks back over."""
    return MOST_WEEKS if reference is Reference.LEARNED else 1


def tolerance(at: Floats, scores: Floats, times: int, a_week: float) -> float | None:
    """A limit that these scores would have exceeded about so many times a week and subject; None if nothing is known.

    Of each six hours the highest score counts that held for so many values in a row. What is never that high is proposed
    from the highest there was.

    Parameters
    ----------
    at, scores : (t, n)
    """
    if not len(scores):
        return None
    lowest = np.where(np.isnan(scores), np.inf, scores)
    held = lowest.copy()
    for back in range(1, min(times, len(scores))):
        held[back:] = np.minimum(held[back:], lowest[:-back])
    held = np.where(np.isfinite(held), held, -np.inf)
    known = at > 0
    if not known.any() or not np.isfinite(held[known]).any():
        return None
    block = np.where(known, at // BLOCK_S, -1).astype(np.int64)
    key = block * scores.shape[1] + np.arange(scores.shape[1])
    _, where = np.unique(key[known], return_inverse=True)
    peaks = np.full(where.max() + 1, -np.inf)
    np.maximum.at(peaks, where, held[known])
    peaks = np.sort(peaks[np.isfinite(peaks)])[::-1]
    wanted = a_week * len(peaks) * BLOCK_S / (7 * 86_400)
    peak = peaks[min(len(peaks) - 1, max(0, int(np.ceil(wanted)) - 1))]
    return float(max(LEAST_TOLERANCE, peak if wanted >= 1 else 1.1 * peaks[0]))
