"""Measures: quantities with a unit, computed from what was counted."""

import numpy as np
from numpy.typing import NDArray


def bits_per_second(octets: NDArray[np.int64], elapsed_ms: NDArray[np.int32]) -> NDArray[np.float64]:
    """Mean rate in bits per second; NaN where no time was covered."""
    seconds = elapsed_ms / 1000.0
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(elapsed_ms > 0, octets * 8.0 / seconds, np.nan)


def utilisation(rate_bps: NDArray[np.float64], speed_bps: NDArray[np.float64]) -> NDArray[np.float64]:
    """Share of the speed in per cent; NaN where the rate or the speed is not known."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(speed_bps > 0, 100.0 * rate_bps / speed_bps, np.nan)
