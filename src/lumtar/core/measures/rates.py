"""The formulas of rates and shares, once for arrays and once for the database; nothing else in Lumtar divides octets by time."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Numbers = NDArray[Any]

BITS_A_MS = 8000.0
"""Bits per second that an octet per millisecond is."""


def over(value: Numbers, by: Numbers) -> Floats:
    """A quotient; NaN where nothing can be divided by."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(by > 0, value / by, np.nan)


def bits_per_second(octets: Numbers, elapsed_ms: Numbers) -> Floats:
    """Mean rate in bits per second; NaN where no time was measured."""
    return over(octets * BITS_A_MS, elapsed_ms)


def bps(octets: int, elapsed_ms: int) -> float | None:
    """The same of one direction of one interface; None where no time was measured."""
    return octets * BITS_A_MS / elapsed_ms if elapsed_ms > 0 else None


def per_second(count: Numbers, elapsed_ms: Numbers) -> Floats:
    """Mean number a second (packets, errors); NaN where no time was measured."""
    return over(count * 1000.0, elapsed_ms)


def utilisation(rate_bps: Numbers, speed_bps: Numbers) -> Floats:
    """Share of the speed in per cent; NaN where the rate or the speed is not known."""
    return over(100.0 * rate_bps, speed_bps)


def sql_bits_per_second(octets: str, elapsed_ms: str = "elapsed_ms") -> str:
    """:func:`bits_per_second` as PostgreSQL computes it; NULL where no time was measured."""
    return f"{octets} * {BITS_A_MS:.0f}::float8 / nullif({elapsed_ms}, 0)"


def sql_per_second(count: str, elapsed_ms: str = "elapsed_ms") -> str:
    """:func:`per_second` as PostgreSQL computes it."""
    return f"({count}) * 1000::float8 / nullif({elapsed_ms}, 0)"


def sql_utilisation(rate_bps: str, speed_bps: str) -> str:
    """:func:`utilisation` as PostgreSQL computes it."""
    return f"100 * {rate_bps} / nullif({speed_bps}, 0)"
