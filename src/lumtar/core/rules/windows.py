"""The last values of many subjects, for statistics over a time."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.counters import GAP

LONGEST_WINDOW_S = 86_400
MOST_VALUES = 360
"""Values that are remembered of a subject; a window with more of them is made of the last so many."""
COVERED = 0.8
"""The share of a window that values have to cover before anything is said of it."""


@dataclass(frozen=True, slots=True)
class Window:
    """What is known of n subjects over a time that ends now; values of at most k instants, the newest first.

    Attributes
    ----------
    values : (k, n) NaN where nothing was measured, and beyond the window
    ages : (k, n) seconds before now; infinite where there is none
    spans : (k, n) seconds that each value stands for; 0 beyond the window
    is_inside : (k, n) whether there was a value to be had within the window, measured or not
    """

    values: NDArray[np.float64]
    ages: NDArray[np.float64]
    spans: NDArray[np.float64]
    is_inside: NDArray[np.bool_]


@dataclass(slots=True)
class Ring:
    """The last k values of s subjects, one measure.

    Attributes
    ----------
    values : (k, s) in the order of ``place``; single precision is enough for what is compared with a limit
    stamps : (k, s) seconds of the epoch; 0 where there is none
    place : (s,) where the newest value of each is
    """

    values: NDArray[np.float32]
    stamps: NDArray[np.uint32]
    place: NDArray[np.int64]

    @classmethod
    def blank(cls, depth: int, size: int) -> "Ring":
        """Nothing is known of so many subjects yet."""
        return cls(
            np.full((depth, size), np.nan, np.float32), np.zeros((depth, size), np.uint32), np.zeros(size, np.int64)
        )

    @property
    def depth(self) -> int:
        """Values that are remembered of each."""
        return len(self.values)

    def put(self, slots: NDArray[np.int64], at: NDArray[np.float64], values: NDArray[np.float64]) -> None:
        """One more value of these subjects."""
        places = (self.place[slots] + 1) % self.depth
        self.place[slots] = places
        self.values[places, slots], self.stamps[places, slots] = values, at.astype(np.uint32)

    def window(self, slots: NDArray[np.int64], seconds: int, interval: NDArray[np.float64]) -> Window:
        """The window of so many seconds that ends with the newest value of each; its oldest value ended after it began."""
        stamps = self._newest_first(self.stamps, slots, self.depth)
        newest = stamps[0].astype(np.int64)
        # A clock that was set back leaves stamps from the future; a place without a value has the stamp 0.
        ages = newest - stamps
        is_inside = (ages >= 0) & (ages < seconds) & (stamps > 0)
        # One more than the last instant that any of them has inside: the oldest value stands for the time since the one before it.
        count = min(self.depth, int(is_inside.any(axis=1).sum()) + 1)
        ages, is_inside, known = ages[:count], is_inside[:count], stamps[:count] > 0
        values = self._newest_first(self.values, slots, count).astype(np.float64)
        values[~is_inside] = np.nan
        spans = np.empty(values.shape)
        spans[:-1] = np.minimum(np.where(known[1:], ages[1:] - ages[:-1], interval), GAP * interval)
        # The first value that was ever seen stands for one interval, one behind a gap for no more than a rate may span.
        spans[-1] = interval
        return Window(values, np.where(known, ages, np.inf), np.where(is_inside, spans, 0.0), is_inside)

    def _newest_first(self, table: NDArray[Any], slots: NDArray[np.int64], count: int) -> NDArray[Any]:
        """(count, n) of values or stamps, the newest first."""
        back, place = np.arange(count), self.place[slots]
        if len(place) and (place == place[0]).all():
            # Polled in step: whole rows are copied, several times cheaper than one value at a time.
            rows: NDArray[Any] = table[(place[0] - back) % self.depth]
            is_everybody = len(slots) == rows.shape[1] and slots[0] == 0 and slots[-1] == len(slots) - 1
            return rows if is_everybody and (np.diff(slots) == 1).all() else rows[:, slots]
        each: NDArray[Any] = table[(place - back[:, None]) % self.depth, slots]
        return each

    def resized(self, depth: int, size: int) -> "Ring":
        """The same with another depth, keeping the newest values, and with room for so many subjects."""
        other = Ring.blank(depth, size)
        kept, known = min(depth, self.depth), min(size, len(self.place))
        order = (self.place[:known] - np.arange(kept)[:, None]) % self.depth
        columns = np.arange(known)
        # Newest at the last place of what is kept, as if they had been put one after another.
        other.values[kept - 1 - np.arange(kept)[:, None], columns] = self.values[order, columns]
        other.stamps[kept - 1 - np.arange(kept)[:, None], columns] = self.stamps[order, columns]
        other.place[:] = kept - 1
        return other

    def forget(self, slots: NDArray[np.int64]) -> None:
        """Nothing is known of these any more."""
        self.values[:, slots], self.stamps[:, slots], self.place[slots] = np.nan, 0, 0

    def move_times(self, step: int) -> None:
        """The clock was set by so many seconds."""
        moved = np.maximum(1, self.stamps.astype(np.int64) + step)
        self.stamps[:] = np.where(self.stamps > 0, moved, 0)
