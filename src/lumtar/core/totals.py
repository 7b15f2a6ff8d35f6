"""Many interfaces over one time: what changed, and which come first."""

import numpy as np

from lumtar.core.measures.counts import Counts, Ints
from lumtar.core.measures.rates import Floats


def change(now: Counts, usual: Counts) -> Floats:
    """How many times their usual load interfaces carry, above or below, as a signed number of octaves (base-2 logarithm).

    Both rates are taken with a floor of 0.1 per cent of the speed (or 10 kbit/s), so that a port that is idle now and then
    does not count as changed; NaN for what is not in both.
    """
    place = {int(each): row for row, each in enumerate(usual.interface)}
    rows = np.array([place.get(int(each), -1) for each in now.interface], np.int64)
    known = rows >= 0
    ratios = np.full(len(rows), np.nan)
    floor = np.maximum(1e4, 0.001 * np.fmin(now.in_bps, now.out_bps))
    for way in ("in", "out"):
        before = usual.rate(way)[rows] if len(usual.interface) else np.full(len(rows), np.nan)
        octaves = np.log2(np.fmax(now.rate(way), floor) / np.fmax(before, floor))
        octaves = np.where(known & ~np.isnan(before) & ~np.isnan(now.rate(way)), octaves, np.nan)
        larger = np.isnan(ratios) | (np.abs(octaves) > np.abs(ratios))
        ratios = np.where(larger, octaves, ratios)
    return ratios


def ranked(values: Floats, limit: int, *, lowest: bool = False) -> Ints:
    """Places of the highest (or lowest) values in their order, unknown ones left out; equal ones keep theirs."""
    known = np.flatnonzero(~np.isnan(values))
    keys = values[known] if lowest else -values[known]
    return np.asarray(known[np.argsort(keys, kind="stable")][:limit])
