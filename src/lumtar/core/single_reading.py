"""What a row of sums holds of one reading alone."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.counters import VOID, Flag
from lumtar.core.measures.rates import bits_per_second

Readings = NDArray[np.void]
"""Readings, with fields named as they are stored."""

WITHIN = ("in_octets", "out_octets", "elapsed_ms")
"""What is counted apart where a reading spans a gap, as:"""
BRIDGED = {"bridged_in_octets": "in_octets", "bridged_out_octets": "out_octets", "bridged_ms": "elapsed_ms"}
RATES = {f"{way}_{end}_bps": f"{way}_octets" for way in ("in", "out") for end in ("min", "max")}
FROM = BRIDGED | RATES | {"readings": "flags", "up_readings": "oper", "void_readings": "flags"}
"""The stored column that another follows from, beside flags and, for rates, elapsed_ms."""


def wanted(columns: Sequence[str]) -> list[str]:
    """The stored columns that these columns of a row of sums follow from."""
    named = [FROM.get(name, name) for name in columns]
    return sorted({"flags", *named, *(("elapsed_ms",) if RATES.keys() & set(columns) else ())})


def column(readings: Readings, name: str) -> NDArray[Any]:
    """A column of rows of sums of one reading each; NaN is no rate: over a gap, and where no time passed."""
    spans_gap = (readings["flags"] & int(Flag.BRIDGED)) != 0
    if name in WITHIN:
        return np.where(spans_gap, 0, readings[name])
    if name in BRIDGED:
        return np.where(spans_gap, readings[BRIDGED[name]], 0)
    if name in RATES:
        return np.where(spans_gap, np.nan, bits_per_second(readings[RATES[name]], readings["elapsed_ms"]))
    if name == "readings":
        return np.ones(len(readings), np.int64)
    if name == "up_readings":
        return np.asarray(readings["oper"] == 1)
    if name == "void_readings":
        return np.asarray((readings["flags"] & int(VOID)) != 0)
    return np.asarray(readings[name])
