"""Percentiles of five-minute means, and how the means of a day are kept in little space.

A mean is kept as a number of 16 bits on a logarithmic scale: 0 where nothing was measured, 1 for no traffic, above it steps of
0.05 per cent from 1 bit/s to 100 Tbit/s. A percentile read from it is therefore right within ``BOUND``; one that is computed
from readings is exact.
"""

from math import ceil

import numpy as np
from numpy.typing import NDArray

from lumtar.core.measures.rates import bits_per_second

SLOTS = 288
"""Five-minute means in a day."""
MOST_BPS = 1e14
SCALE = 65533 / np.log(MOST_BPS)
BOUND = float(np.exp(0.5 / SCALE) - 1)
"""The largest relative error of a mean that was kept, for rates of 1 bit/s and more."""


def encode(rates: NDArray[np.float64]) -> NDArray[np.uint16]:
    """Rates in bits per second as they are kept; NaN is nothing measured."""
    with np.errstate(divide="ignore", invalid="ignore"):
        places = 2 + np.rint(np.log(np.clip(rates, 1.0, MOST_BPS)) * SCALE)
    return np.where(np.isnan(rates), 0, np.where(rates > 0, places, 1)).astype(np.uint16)


_RATES = np.concatenate([[np.nan, 0.0], np.exp(np.arange(65534) / SCALE)])
"""What each of the numbers stands for."""


def decode(codes: NDArray[np.uint16]) -> NDArray[np.float64]:
    """Rates in bits per second, NaN where nothing was measured."""
    return _RATES[codes]


def percentile(values: NDArray[np.float64], share: float = 95.0) -> float | None:
    """The smallest value that so many per cent of the known ones do not exceed; None if none is known.

    That is the nearest rank (ISO 3534-1, a sample quantile without interpolation), the custom for circuits paid by the 95th.
    """
    known = values[~np.isnan(values)]
    if not len(known):
        return None
    place = max(0, ceil(len(known) * share / 100) - 1)
    return float(np.partition(known, place)[place])


def means(
    at: NDArray[np.float64], elapsed_ms: NDArray[np.float64], octets: NDArray[np.float64], start: float, slots: int
) -> NDArray[np.float64]:
    """Five-minute means of one direction, in bits per second.

    Parameters
    ----------
    at : (n,) ends of readings or of five-minute sums, seconds of the epoch
    elapsed_ms : (n,) milliseconds that were measured; 0 for nothing
    octets : (n,) counted in that time
    start : the beginning of the first slot, a multiple of 300
    slots : how many slots of 300 s follow

    Returns
    -------
    (slots,) NaN where nothing was measured. What covers several slots fills those before its end as well.
    """
    place = np.ceil((at - start) / 300).astype(np.int64) - 1
    here = (place >= 0) & (place < slots) & (elapsed_ms > 0)
    place, covered, counted = place[here], elapsed_ms[here], octets[here]
    milliseconds = np.bincount(place, covered, slots)
    rates = bits_per_second(np.bincount(place, counted, slots), milliseconds)
    long = np.flatnonzero(covered >= 450_000)
    before = np.minimum(place[long], np.rint(covered[long] / 300_000).astype(np.int64) - 1)
    which = np.repeat(long, before)
    back = np.arange(len(which)) - np.repeat(np.cumsum(before) - before, before)
    slot = place[which] - 1 - back
    empty = np.isnan(rates[slot])
    # Backwards: of two that cover one slot the first has it.
    slot, which = slot[empty][::-1], which[empty][::-1]
    rates[slot] = bits_per_second(counted[which], covered[which])
    return np.asarray(rates)


ENOUGH = 0.9
"""A total of many counts where at least this share of those that were measured on its day are in it."""


def daily_of_totals(
    totals: NDArray[np.float64], measured: NDArray[np.int64], share: float = 95.0
) -> NDArray[np.float64]:
    """The percentile of each day's five-minute totals of several subjects.

    Percentiles do not add up: that of a total is found from the totals.

    Parameters
    ----------
    totals : (days, slots) sums of what was measured, bits per second
    measured : (days, slots) how many subjects are in each sum

    Returns
    -------
    (days,) NaN where fewer than half of the slots hold enough of the subjects
    """
    is_whole = (measured > 0) & (measured >= ENOUGH * measured.max(axis=1, keepdims=True))
    percentiles = [percentile(day[complete], share) for day, complete in zip(totals, is_whole, strict=True)]
    is_enough = is_whole.mean(axis=1) >= 0.5
    return np.where(is_enough, np.array([np.nan if each is None else each for each in percentiles]), np.nan)
