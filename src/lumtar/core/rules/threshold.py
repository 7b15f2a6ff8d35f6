"""A fixed limit with hysteresis: raised by N readings in a row above it, cleared by one below a lower limit."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Threshold:
    """Raise when ``readings`` values in a row exceed ``limit``, clear at the first below ``clear``.

    Raises
    ------
    ValueError
        with a sentence for the person who set it
    """

    limit: float
    clear: float
    readings: int

    def __post_init__(self) -> None:
        if not self.limit > 0:
            raise ValueError("The limit must be above 0.")
        if not 0 <= self.clear <= self.limit:
            raise ValueError("The clearing limit must lie between 0 and the limit.")
        if not 1 <= self.readings <= 1000:
            raise ValueError("The number of readings in a row must lie between 1 and 1,000.")


@dataclass(frozen=True, slots=True)
class Watched:
    """The rule's memory of n subjects.

    Attributes
    ----------
    over : (n,) readings in a row above the limit
    raised : (n,) whether the alarm stands
    """

    over: NDArray[np.int16]
    raised: NDArray[np.bool_]


def step(threshold: Threshold, values: NDArray[np.float64], memory: Watched) -> Watched:
    """The memory after one more value each. NaN is no reading: it neither counts nor breaks the row."""
    known = ~np.isnan(values)
    above = known & (values > threshold.limit)
    over = np.where(above, np.minimum(memory.over + 1, threshold.readings), np.where(known, 0, memory.over))
    raised = memory.raised | (above & (over >= threshold.readings))
    raised &= ~(known & (values < threshold.clear))
    return Watched(over.astype(np.int16), raised)
