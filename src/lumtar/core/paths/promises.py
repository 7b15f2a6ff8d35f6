"""Promises: how good paths have to be, for which share of the time, and whether they are.

A minute keeps its promise if it keeps all targets. The error budget of a time is what may be missed of it.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

from lumtar.core.calling.hours import Hours
from lumtar.core.measures import MEASURES
from lumtar.core.measures.paths import Paths
from lumtar.core.refusal import Refusal

Bools = NDArray[np.bool_]
TARGETS = ("path_delay_95", "path_jitter", "path_variation", "path_loss", "path_mos", "path_failed")
"""Measures that can be promised."""
LESS_IS_WORSE = frozenset(("path_mos",))
MOST_SHARE = 99.999
"""Per cent of the time; who promises more has no budget at all."""


@dataclass(frozen=True, slots=True)
class Promise:
    """What is promised of the paths of a service class.

    Attributes
    ----------
    limits : by measure, what is not to be exceeded (of an opinion score: what it does not fall below)
    share : of the time for which all of them hold, per cent
    hours : when it is promised; None is always
    """

    limits: Mapping[str, float]
    share: float
    hours: Hours | None = None

    def __post_init__(self) -> None:
        if not self.limits:
            raise Refusal("Say at least one target.", "limits")
        for name, limit in self.limits.items():
            if name not in TARGETS:
                raise Refusal(f"There are targets for {', '.join(TARGETS)}.", "limits")
            if not 0 <= limit < 1e7 or not np.isfinite(limit):
                raise Refusal(f"{MEASURES[name].words}: a target is a number from 0 on.", "limits")
        if not 50 <= self.share <= MOST_SHARE:
            raise Refusal(f"The share of the time goes from 50 to {MOST_SHARE} %.", "share")

    @property
    def allowed(self) -> float:
        """The share of the time that may be missed, 0 to 1."""
        return 1 - self.share / 100

    def missed(self, paths: Paths) -> dict[str, Bools]:
        """Of each interval whether it misses each target; one without any answer misses all of them."""
        is_dead = (paths.sent > 0) & (paths.lost == paths.sent)
        found = {}
        for name, limit in self.limits.items():
            values = MEASURES[name].of(paths)
            with np.errstate(invalid="ignore"):
                found[name] = is_dead | (values < limit if name in LESS_IS_WORSE else values > limit)
        return found

    def closeness(self, paths: Paths) -> dict[str, NDArray[np.float64]]:
        """Of each interval how near it is to each target: 1 is at its limit, more is beyond; without any answer it is infinite, NaN is not known."""
        is_dead = (paths.sent > 0) & (paths.lost == paths.sent)
        found = {}
        for name, limit in self.limits.items():
            values = MEASURES[name].of(paths)
            with np.errstate(divide="ignore", invalid="ignore"):
                near = limit / values if name in LESS_IS_WORSE else values / limit
                # A limit of nothing is either kept in full or missed.
                near = np.where(np.isnan(near) & (values == limit), 0.0, near)
            found[name] = np.where(is_dead, np.inf, near)
        return found

    def holds_at(self, at: NDArray[np.float64]) -> Bools:
        """Whether it is promised at some times, seconds of the epoch."""
        if self.hours is None:
            return np.ones(len(at), bool)
        moments, which = np.unique(at, return_inverse=True)
        held = [self.hours.includes(datetime.fromtimestamp(each, UTC)) for each in moments.tolist()]
        return np.array(held, bool)[which] if held else np.zeros(0, bool)


@dataclass(frozen=True, slots=True)
class Budget:
    """How a promise stands within a period, in minutes.

    Attributes
    ----------
    judged, missed : until now
    period : minutes that the whole period will have been judged for
    share : per cent of the time that is promised
    recent : of the last days the share that was missed, 0 to 1; NaN if nothing is known
    """

    judged: float
    missed: float
    period: float
    share: float
    recent: float

    @property
    def kept(self) -> float:
        """Per cent of the judged time; NaN if there is none."""
        return 100 * (1 - self.missed / self.judged) if self.judged else np.nan

    @property
    def allowed(self) -> float:
        """Minutes that may be missed within the whole period."""
        return self.period * (1 - self.share / 100)

    @property
    def left(self) -> float:
        """Of these what is left; below zero the promise is broken, whatever comes."""
        return self.allowed - self.missed

    @property
    def forecast(self) -> float:
        """Per cent that will have been kept at the end of the period if it goes on as in the last days; NaN if nothing is known."""
        coming = max(0.0, self.period - self.judged)
        if not self.judged or (coming > 0 and np.isnan(self.recent)):
            return np.nan
        lost = self.missed + (coming * self.recent if coming else 0.0)
        return 100 * (1 - lost / max(self.period, self.judged))
