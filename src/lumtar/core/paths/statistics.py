"""What the probes of an interval come to: round trips, their variation, loss, and how it bursts.

Probes are given in the order in which they were sent. Times are microseconds; NaN is an answer that did not come in time.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95)
"""Of which the values are kept of each interval, beside the least and the longest."""


@dataclass(frozen=True, slots=True)
class Answers:
    """Probes of one path within an interval.

    Attributes
    ----------
    round_trip : (n,) from the sending to the answer, without the time that the reflector took
    arrival : (n,) in which place the answer arrived among all of them, 0 first; below zero where none came
    out, back : (n,) one-way delays as the two clocks tell them; NaN where the reflector tells no time
    duplicates : answers that came once more
    """

    round_trip: Floats
    arrival: NDArray[np.int64]
    out: Floats
    back: Floats
    duplicates: int = 0


@dataclass(frozen=True, slots=True)
class Summary:
    """An interval of a path.

    Attributes
    ----------
    sent, lost, duplicates : probes, answers that did not come, answers that came once more
    reordered : answers that came after one that was sent later (RFC 4737 section 3.3)
    bursts, longest_burst : losses in a row: how many times, and the most in one (RFC 3357)
    least, longest, mean : of round trips, microseconds
    quantiles : of round trips, at QUANTILES
    variation : the mean of the differences of round trips between one probe and the next one, without their signs (RFC 3393 section 4.2)
    variation_95 : its 95th percentile
    jitter : the smoothed difference after the last probe (RFC 3550 section 6.4.1)
    out, back : means of one-way delays; NaN if the reflector tells no time
    """

    sent: int
    lost: int
    duplicates: int
    reordered: int
    bursts: int
    longest_burst: int
    least: float
    longest: float
    mean: float
    quantiles: tuple[float, ...]
    variation: float
    variation_95: float
    jitter: float
    out: float
    back: float


def summary(answers: Answers, jitter: float = np.nan) -> Summary:
    """What an interval comes to.

    Parameters
    ----------
    jitter : as it was after the interval before, since it is smoothed over all probes
    """
    trips = answers.round_trip
    came = ~np.isnan(trips)
    known = trips[came]
    # Only neighbours that both came have a difference: a loss between two is no variation.
    changes = np.abs(np.diff(trips))
    changes = changes[~np.isnan(changes)]
    bursts = bursts_of(~came)
    nothing = (np.nan,) * len(QUANTILES)
    return Summary(
        sent=len(trips),
        lost=int((~came).sum()),
        duplicates=answers.duplicates,
        reordered=reordered(answers.arrival[came]),
        bursts=len(bursts),
        longest_burst=int(bursts.max(initial=0)),
        least=float(known.min()) if len(known) else np.nan,
        longest=float(known.max()) if len(known) else np.nan,
        mean=float(known.mean()) if len(known) else np.nan,
        quantiles=tuple(np.quantile(known, QUANTILES).tolist()) if len(known) else nothing,
        variation=float(changes.mean()) if len(changes) else np.nan,
        variation_95=float(np.quantile(changes, 0.95)) if len(changes) else np.nan,
        jitter=smoothed_jitter(changes, jitter),
        out=_mean(answers.out),
        back=_mean(answers.back),
    )


def _mean(values: Floats) -> float:
    known = values[~np.isnan(values)]
    return float(known.mean()) if len(known) else np.nan


def smoothed_jitter(changes: Floats, before: float = np.nan) -> float:
    """The jitter J after changes D, each of which moves it by a sixteenth of what D is above it (RFC 3550 section 6.4.1), in one step for all of them."""
    if not len(changes):
        return before
    begun = 0.0 if np.isnan(before) else before
    weights = (15 / 16) ** np.arange(len(changes) - 1, -1, -1)
    return float(begun * (15 / 16) ** len(changes) + (np.abs(changes) * weights).sum() / 16)


def reordered(arrival: NDArray[np.int64]) -> int:
    """How many answers came after one that was sent later: those whose number is less than the next expected one (RFC 4737 section 3.3)."""
    if len(arrival) < 2:
        return 0
    sent = np.argsort(arrival, kind="stable")
    newest = np.maximum.accumulate(sent)
    return int((sent[1:] < newest[:-1]).sum())


def bursts_of(lost: NDArray[np.bool_]) -> NDArray[np.int64]:
    """How many were lost in a row, each time."""
    edges = np.flatnonzero(np.diff(np.concatenate(([0], lost.astype(np.int8), [0]))))
    return np.asarray(edges[1::2] - edges[::2])


SHAPE = (0.0, *QUANTILES, 1.0)
FINE = 1024
"""Parts of a microsecond that times are rounded to where quantiles are joined: finer than any clock of a probe."""
SLIGHT = 1e-6
"""A share of the answers that rounding may add or take away."""


def joined_quantiles(values: NDArray[Any], weights: NDArray[Any], begins: NDArray[np.intp]) -> Floats:
    """Quantiles of several intervals together, from those of each: the least, QUANTILES and the longest, a row for each group of intervals.

    Between two of its values the answers of an interval are taken to lie evenly, so what comes out is near, not exact; the least and the longest
    are exact. The share of answers up to a time is then made of straight lines, which are followed for all groups at once.

    Parameters
    ----------
    values : (intervals, 7) in the order of SHAPE; a row of NaN is an interval without answers
    weights : (intervals,) how many answers each has
    begins : (groups,) at which interval each group begins, rising from 0
    """
    made = np.full((len(begins), len(SHAPE)), np.nan)
    known = ~np.isnan(values).any(axis=1) & (weights > 0)
    group = np.repeat(np.arange(len(begins)), np.diff(np.append(begins, len(values))))[known]
    if not len(group):
        return made
    rows, numbers = values[known].astype("f8"), weights[known].astype("f8")
    groups, first = np.unique(group, return_index=True)
    whole = np.add.reduceat(numbers, first)
    made[groups, 0], made[groups, -1] = np.minimum.reduceat(rows[:, 0], first), np.maximum.reduceat(rows[:, -1], first)
    at, grown, slope_before = _shares(rows, numbers, np.searchsorted(groups, group))
    before = np.cumsum(whole) - whole
    for place, quantile in enumerate(QUANTILES, 1):
        wanted = before + quantile * whole
        # Where no answer lies for a while, the time before it is meant, however sums were rounded.
        found = np.minimum(np.searchsorted(grown, wanted - SLIGHT * whole), len(at) - 1)
        last = np.maximum(found - 1, 0)
        with np.errstate(divide="ignore", invalid="ignore"):
            value = np.where(
                slope_before[found] > 0, at[last] + (wanted - grown[last]) / slope_before[found], at[found]
            )
        made[groups, place] = np.clip(np.minimum(value, at[found]), made[groups, 0], made[groups, -1])
    return made


TIME_BITS, GROUP_BITS = 44, 19


def _in_order(at: Floats, whose: NDArray[Any]) -> NDArray[np.int64]:
    """The order of times, whole parts of FINE, within their groups.

    Group and time are one whole number as long as both fit: sorting one column of those takes a thirtieth of sorting two of floats.
    """
    ticks = at * FINE
    if ticks.max(initial=0) >= 1 << TIME_BITS or ticks.min(initial=0) < 0 or whose.max(initial=0) >= 1 << GROUP_BITS:
        return np.lexsort((at, whose))
    return np.argsort((whose.astype("i8") << TIME_BITS) | ticks.astype("i8"), kind="stable")


def _shares(rows: Floats, numbers: Floats, group: NDArray[Any]) -> tuple[Floats, Floats, Floats]:
    """Group by group the times at which the number of answers changes how it grows: the times, the number up to each, and how it grew before it.

    Numbers of a group go on from those of the group before it.
    """
    parts = numbers[:, None] * np.diff(SHAPE)
    # Rounded before anything is reckoned from them: else an order by rounded times could count an answer before it came.
    rows = np.rint(rows * FINE) / FINE
    low, high = rows[:, :-1], rows[:, 1:]
    is_one = high <= low
    slope = np.where(is_one, 0.0, parts / np.where(is_one, 1.0, high - low))
    at = np.concatenate((low.ravel(), high.ravel()))
    change = np.concatenate((slope.ravel(), -slope.ravel()))
    jump = np.concatenate((np.zeros(slope.size), np.where(is_one, parts, 0.0).ravel()))
    whose = np.tile(np.repeat(group, parts.shape[1]), 2)
    order = _in_order(at, whose)
    at, whose = at[order], whose[order]
    slopes = np.cumsum(change[order])
    slope_before = np.append(0.0, slopes[:-1])
    # Between groups nothing grows, however the rounding of sums would have it.
    slope_before[np.append(True, np.diff(whose) != 0)] = 0.0
    slope_before = np.maximum(slope_before, 0.0)
    # Where one group follows another the time may be earlier again.
    steps = slope_before * np.append(0.0, np.maximum(np.diff(at), 0.0)) + jump[order]
    return at, np.cumsum(steps), slope_before
