"""What of a subject's values a rule compares with its limits; a further one is registered here."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lumtar.core.rules.windows import COVERED, Window

Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Statistic:
    """A statistic of n subjects: NaN where it cannot be told.

    Attributes
    ----------
    of : from the newest values (n,); None if it looks back over a time
    over : from a Window and its seconds; None if it does not
    unit : of the result, where it is another one than that of the values; ``{unit}`` stands for theirs
    """

    name: str
    words: str
    of: Callable[[Floats], Floats] | None = None
    over: Callable[[Window, int], Floats] | None = None
    unit: str = "{unit}"

    @property
    def has_window(self) -> bool:
        """Whether it looks back over a time."""
        return self.over is not None


STATISTICS: dict[str, Statistic] = {}


def register(statistic: Statistic) -> Statistic:
    """Make a statistic known to rules."""
    STATISTICS[statistic.name] = statistic
    return statistic


def _covered(window: Window, seconds: int, result: Floats) -> Floats:
    """The result where values cover enough of the window."""
    measured = np.where(np.isnan(window.values), 0.0, window.spans).sum(axis=0)
    return np.where(measured >= COVERED * seconds, result, np.nan)


def _mean(window: Window, seconds: int) -> Floats:
    """Each value weighs as much as the time that it stands for."""
    spans = np.where(np.isnan(window.values), 0.0, window.spans)
    total, time = np.where(spans > 0, window.values * spans, 0.0).sum(axis=0), spans.sum(axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        return _covered(window, seconds, total / time)


def _extreme(choose: Callable[..., Floats], nothing: float) -> Callable[[Window, int], Floats]:
    def of(window: Window, seconds: int) -> Floats:
        return _covered(window, seconds, choose(np.where(np.isnan(window.values), nothing, window.values), axis=0))

    return of


def _percentile(share: float) -> Callable[[Window, int], Floats]:
    """The nearest rank: the smallest value that so large a share of the values do not exceed."""

    def of(window: Window, seconds: int) -> Floats:
        ordered = np.sort(window.values, axis=0)
        count = (~np.isnan(window.values)).sum(axis=0)
        rank = np.clip(np.ceil(share * count).astype(np.int64) - 1, 0, None)
        return _covered(window, seconds, ordered[rank, np.arange(ordered.shape[1])])

    return of


def _ends(window: Window) -> tuple[Floats, Floats]:
    """The newest value less the oldest one, and the seconds between them."""
    known, places = ~np.isnan(window.values), np.arange(window.values.shape[1])
    newest, oldest = known.argmax(axis=0), len(known) - 1 - known[::-1].argmax(axis=0)
    ages = np.where(np.isfinite(window.ages), window.ages, 0.0)
    difference = window.values[newest, places] - window.values[oldest, places]
    return difference, ages[oldest, places] - ages[newest, places]


def _change(window: Window, seconds: int) -> Floats:
    return _covered(window, seconds, _ends(window)[0])


def _rate(window: Window, seconds: int) -> Floats:
    difference, time = _ends(window)
    with np.errstate(invalid="ignore", divide="ignore"):
        return _covered(window, seconds, np.where(time > 0, 3600.0 * difference / time, np.nan))


def _missing(window: Window, seconds: int) -> Floats:
    """Of the instants at which a value was due, the share without one, in per cent."""
    due = window.is_inside.sum(axis=0)
    known = (~np.isnan(window.values)).sum(axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        share = np.where(due > 0, 100.0 * (due - known) / due, np.nan)
    return np.where(window.spans.sum(axis=0) >= COVERED * seconds, share, np.nan)


VALUE = register(Statistic("value", "each value", lambda values: values))
register(Statistic("mean", "mean", over=_mean))
register(Statistic("maximum", "maximum", over=_extreme(np.max, -np.inf)))
register(Statistic("minimum", "minimum", over=_extreme(np.min, np.inf)))
register(Statistic("percentile95", "95th percentile", over=_percentile(0.95)))
register(Statistic("change", "change", over=_change))
register(Statistic("rate", "rate of change", over=_rate, unit="{unit}/h"))
register(Statistic("missing", "share of missing values", over=_missing, unit="%"))
