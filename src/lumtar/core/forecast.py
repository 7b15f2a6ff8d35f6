"""When something will be full: a robust trend of daily values with a weekly shape.

The trend is the median of the slopes between days of the same weekday, so that the shape of the week does not enter it
(the seasonal Kendall slope of Hirsch, Slack and Smith, Water Resources Research 18 (1), 1982, section 3). Its interval of
confidence comes from the variance of Kendall's S, summed over the weekdays (the same paper, equation 8, and Gilbert,
Statistical Methods for Environmental Pollution Monitoring, 1987, section 17.4).
"""

from dataclasses import dataclass
from enum import StrEnum
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
WEEK = 7
LEAST_DAYS = 28
"""Of measured days; with fewer nothing is said."""
MOST_DAYS = 26 * WEEK
"""Of history that is looked at."""
FARTHEST_DAYS = 1825
"""What would be reached later than that is not said."""
Z = 1.2816
"""Of the standard normal distribution: four of five outcomes lie within the interval."""
SHARES = (70, 80, 90, 100)


class Verdict(StrEnum):
    """What can be said."""

    GROWS = "grows"
    STEADY = "steady"
    FALLS = "falls"
    SHORT = "too short"
    IRREGULAR = "too irregular"


WORDS = {
    Verdict.GROWS: "It grows.",
    Verdict.STEADY: "It neither grows nor falls for certain.",
    Verdict.FALLS: "It falls.",
    Verdict.SHORT: f"The history is too short: at least {LEAST_DAYS} measured days over four weeks are needed.",
    Verdict.IRREGULAR: "It is too irregular to say: days differ by more than the trend and the week explain.",
}


@dataclass(frozen=True, slots=True)
class Trends:
    """Of n series: units a day, and units.

    Attributes
    ----------
    slope, lowest, highest : (n,) the trend and its interval of confidence; NaN where nothing can be said
    level : (n,) what the busiest weekday reaches at the last day, by trend and weekly shape
    spread : (n,) median absolute deviation of the days from trend and shape
    days : (n,) measured days
    verdict : (n,) what can be said
    """

    slope: Floats
    lowest: Floats
    highest: Floats
    level: Floats
    spread: Floats
    days: NDArray[np.int64]
    verdict: list[Verdict]


def trends(values: Floats) -> Trends:
    """Trends of daily values.

    Parameters
    ----------
    values : (n, days) one value a day, the last one being the newest; NaN where nothing was measured
    """
    values = values[:, -MOST_DAYS:]
    count, length = values.shape
    days = (~np.isnan(values)).sum(axis=1)
    reach = np.array([_span(row) for row in values], np.int64)
    enough = (days >= LEAST_DAYS) & (reach >= LEAST_DAYS)
    slope, lowest, highest = (np.full(count, np.nan) for _ in range(3))
    if enough.any():
        slope[enough], lowest[enough], highest[enough] = _slopes(values[enough])
    flat = values - np.nan_to_num(slope)[:, None] * (np.arange(length) - (length - 1))
    shape = np.full((count, WEEK), np.nan)
    with np.errstate(all="ignore"):
        for weekday in range(WEEK):
            shape[:, weekday] = _median(flat[:, (length - 1 - weekday) % WEEK :: WEEK])
        level = np.where(enough, _highest(shape), np.nan)
        place = (length - 1 - np.arange(length)) % WEEK
        spread = np.where(enough, _median(np.abs(flat - shape[:, place])), np.nan)
    verdicts = [_verdict(*row) for row in zip(enough, slope, lowest, highest, level, spread, strict=True)]
    return Trends(slope, lowest, highest, level, spread, days.astype(np.int64), verdicts)


def _span(row: Floats) -> int:
    known = np.flatnonzero(~np.isnan(row))
    return int(known[-1] - known[0] + 1) if len(known) else 0


def _median(rows: Floats) -> Floats:
    """Medians of what is known; NaN for rows of nothing, without numpy's warning."""
    medians = np.full(len(rows), np.nan)
    known = (~np.isnan(rows)).any(axis=1)
    medians[known] = np.nanmedian(rows[known], axis=1)
    return medians


def _highest(rows: Floats) -> Floats:
    highest = np.full(len(rows), np.nan)
    known = (~np.isnan(rows)).any(axis=1)
    highest[known] = np.nanmax(rows[known], axis=1)
    return highest


def _slopes(values: Floats) -> tuple[Floats, Floats, Floats]:
    """The seasonal Kendall slope with its interval of confidence."""
    length = values.shape[1]
    pairs = [pair for weekday in range(min(WEEK, length)) for pair in combinations(range(weekday, length, WEEK), 2)]
    first, second = np.array(pairs).T
    slopes = np.sort((values[:, second] - values[:, first]) / (second - first), axis=1)
    pairs_known = (~np.isnan(slopes)).sum(axis=1)
    variance = np.zeros(len(values))
    for weekday in range(WEEK):
        n = (~np.isnan(values[:, weekday::WEEK])).sum(axis=1)
        variance += n * (n - 1) * (2 * n + 5) / 18.0
    reach = Z * np.sqrt(variance)
    rows = np.arange(len(values))
    top = np.maximum(pairs_known - 1, 0)
    # NaN sorts behind everything, so the known slopes come first.
    low = np.clip(np.round((pairs_known - reach) / 2), 0, top).astype(np.int64)
    high = np.clip(np.round((pairs_known + reach) / 2), 0, top).astype(np.int64)
    return _median(slopes), slopes[rows, low], slopes[rows, high]


def _verdict(enough: bool, slope: float, lowest: float, highest: float, level: float, spread: float) -> Verdict:
    if not enough or np.isnan(slope):
        return Verdict.SHORT
    if spread > 0.35 * max(level, 1e-9):
        return Verdict.IRREGULAR
    # Less than a tenth in a year is no growth to plan for.
    if lowest > 0 and slope * 365 > 0.1 * level:
        return Verdict.GROWS
    return Verdict.FALLS if highest < 0 else Verdict.STEADY


@dataclass(frozen=True, slots=True)
class Reached:
    """Days from the last one until a share of the speed is reached: most likely, earliest, latest. 0 is already."""

    share: int
    days: int
    earliest: int
    latest: int | None


def reached(level: float, slope: float, lowest: float, highest: float, speed: float) -> list[Reached]:
    """When the busiest weekday reaches each of SHARES of a speed, as far as it does within FARTHEST_DAYS."""
    crossings = []
    for share in SHARES:
        wanted = share / 100 * speed - level
        if wanted <= 0:
            crossings.append(Reached(share, 0, 0, 0))
            continue
        days, earliest, latest = (wanted / each if each > 0 else np.inf for each in (slope, highest, lowest))
        if days <= FARTHEST_DAYS:
            crossings.append(
                Reached(share, round(days), round(earliest), round(latest) if latest <= 10 * FARTHEST_DAYS else None)
            )
    return crossings
