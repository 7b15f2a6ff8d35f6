"""Values of subjects at one instant or at several, as rules look at them."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Frame:
    """Values of n subjects of one kind at t instants, in the order of time.

    Attributes
    ----------
    slots : (n,) the places of the subjects in a Memory, none of them twice
    at : (t, n) seconds of the epoch
    interval : (n,) seconds from one instant to the next as planned
    values : by measure, (t, n); NaN is missing
    flags : (t, n) bits of counters.Flag, which say why a value is missing; None where nothing is known of that
    """

    slots: NDArray[np.int64]
    at: NDArray[np.float64]
    interval: NDArray[np.float64]
    values: Mapping[str, NDArray[np.float64]]
    flags: NDArray[np.int16] | None = None

    @classmethod
    def of_instant(
        cls,
        slots: NDArray[np.int64],
        at: NDArray[np.float64],
        interval: NDArray[np.float64],
        values: Mapping[str, NDArray[np.float64]],
        flags: NDArray[np.int16] | None = None,
    ) -> "Frame":
        """A frame of one instant, from arrays of n."""
        rows = {name: each[None, :] for name, each in values.items()}
        return cls(slots, at[None, :], interval, rows, None if flags is None else flags[None, :])
