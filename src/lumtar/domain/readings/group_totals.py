"""What groups of ports carried together, step by step.

A step is as long as the slowest of the ports is polled, so that each of them is measured in it once at least.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from lumtar.core.measures.groups import Totals
from lumtar.core.measures.rates import bits_per_second
from lumtar.domain.inventory import groups
from lumtar.domain.readings import speeds, sums

ENOUGH = 0.9
"""Share of a group's ports that has to be measured: without more of them a total says nothing of the whole."""
AT_ONCE = 500
"""Ports that are read together."""
COUNTED = ("elapsed_ms", "in_octets", "out_octets")
MINUTE_S = 60


@dataclass(frozen=True, slots=True)
class Steps:
    """A group's steps: their ends (seconds of the epoch), their length in seconds, and what was carried in each."""

    at: NDArray[np.float64]
    step_s: int
    totals: Totals


def of_group(pk: int, start: datetime, end: datetime, coarsest_s: int = 0) -> Steps:
    """The steps of one group that end after ``start`` and not after ``end``.

    Parameters
    ----------
    coarsest_s : length of a step at least; else a minute, or more if a port is polled less often
    """
    ports = groups.polled_ports(pk)
    slowest = max(ports.values(), default=MINUTE_S)
    step = max(coarsest_s, MINUTE_S * math.ceil(slowest / MINUTE_S))
    first, last = math.floor(start.timestamp() / step), math.floor(end.timestamp() / step)
    n = max(0, last - first)
    carried, capacity, measured = np.zeros((2, n)), np.zeros((2, n)), np.zeros(n)
    numbers = sorted(ports)
    for place in range(0, len(numbers) if n else 0, AT_ONCE):
        some = numbers[place : place + AT_ONCE]
        rows = sums.read(some, start - timedelta(seconds=step), end, step, COUNTED).rows
        bins = np.ceil(rows["at"] / step).astype(np.int64) - first - 1
        rows, bins = rows[(bins >= 0) & (bins < n)], bins[(bins >= 0) & (bins < n)]
        _add(some, rows, bins, carried, capacity, measured)
    too_few = measured < max(1, ENOUGH * len(numbers))
    carried[:, too_few] = np.nan
    return Steps(step * np.arange(first + 1, first + 1 + n, dtype=float), step, Totals(*carried, *capacity))


def _add(
    ports: Sequence[int],
    rows: NDArray[np.void],
    bins: NDArray[np.int64],
    carried: NDArray[np.float64],
    capacity: NDArray[np.float64],
    measured: NDArray[np.float64],
) -> None:
    """Add what some ports carried to the sums of each step; rows are in the order of port and time."""
    if not len(rows):
        return
    starts = np.flatnonzero(np.r_[True, (np.diff(rows["interface"]) != 0) | (np.diff(bins) != 0)])
    elapsed, of_bin = np.add.reduceat(rows["elapsed_ms"], starts), bins[starts]
    known = speeds.known(ports)
    there = elapsed > 0
    np.add.at(measured, of_bin[there], 1.0)
    for place, way in enumerate(("in", "out")):
        rate = bits_per_second(np.add.reduceat(rows[f"{way}_octets"], starts), elapsed)
        np.add.at(carried[place], of_bin[there], rate[there])
        np.add.at(capacity[place], of_bin, speeds.at(known, way, rows["interface"][starts], rows["at"][starts]))
