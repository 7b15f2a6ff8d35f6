"""Traffic as a deterministic function of time whose exact integral is known.

A source's octets since the origin are ``peak / 8 * W(warp(t))``: W integrates the source's
weekly shape, and ``warp`` is time run through deterministic noise. Its slope stays between
0.1 and 1.9, so counters never run backwards, history can be computed for any instant, and
two runs agree.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

WEEK = 7 * 86400
SLOT = 900
SLOTS = WEEK // SLOT
ORIGIN = 1_767_571_200
"""Monday 5 January 2026, 00:00 UTC: a fixed instant at which every integral is zero."""
MORNING = 10 * 3600 + 20 * 60
"""The county's time of day, in seconds, when the demonstration is loaded: there is something to see at any hour."""


def ahead_s(epoch: float) -> float:
    """How far the county's clock is ahead of UTC, in seconds, for a demonstration loaded at a time (seconds of the epoch).

    The weekday stays; what is loaded at a weekend falls on a Tuesday.
    """
    weekday = int((epoch - ORIGIN) % WEEK // 86400)
    wanted = (weekday if weekday < 5 else 1) * 86400 + MORNING
    return float(wanted - (epoch - ORIGIN) % WEEK)


NOISE = ((60, 0.30), (600, 0.30), (5400, 0.30))
"""Time scales in seconds, and by how much each may speed time up or slow it down."""


def _hours(*spans: tuple[float, float, float], days: str = "1111111", floor: float = 0.02) -> NDArray[np.float64]:
    """A weekly shape: spans of (from hour, to hour, level) on the days marked 1, from Monday."""
    shape = np.full((7, 96), floor)
    hour = np.arange(96) / 4
    for start, end, level in spans:
        chosen = (hour >= start) & (hour < end)
        for day, mark in enumerate(days):
            if mark == "1":
                shape[day, chosen] = np.maximum(shape[day, chosen], level)
    return shape


def _smooth(shape: NDArray[np.float64], slots: int = 5) -> NDArray[np.float64]:
    flat = shape.reshape(-1)
    padded = np.concatenate([flat[-slots:], flat, flat[:slots]])
    return np.convolve(padded, np.ones(slots) / slots, mode="same")[slots:-slots]


OPENING = ((8.5, 10, 0.45), (10, 12, 0.8), (12, 13.5, 0.65), (13.5, 16.5, 0.9), (16.5, 18.5, 0.55))
SHAPES = {
    "readers": _smooth(_hours(*OPENING, days="1111110")),
    "wireless": _smooth(_hours((8, 10, 0.4), (10, 15, 0.7), (15, 18, 1.0), (18, 20, 0.5), days="1111110", floor=0.04)),
    "staff": _smooth(_hours((7.5, 9, 0.5), (9, 12, 1.0), (12, 13, 0.6), (13, 17, 0.9), days="1111100", floor=0.03)),
    "steady": _smooth(_hours(floor=0.6)),
    "copy": _smooth(_hours((19, 23.5, 1.0), days="1111110", floor=0.01), 3),
    "backup": _smooth(_hours((1, 4.5, 1.0), floor=0.02), 3),
    "index": _smooth(np.maximum(_hours((5, 15, 1.0), days="0000001", floor=0.03), _hours((8, 18, 0.25), floor=0.03))),
    "silent": np.zeros(SLOTS),
}
CLASSES = list(SHAPES)
LEVEL = np.stack([SHAPES[name].reshape(-1) for name in CLASSES])
CUMULATED = np.concatenate([np.zeros((len(CLASSES), 1)), np.cumsum(LEVEL, axis=1) * SLOT], axis=1)


def _hash01(seeds: NDArray[np.uint64], knots: NDArray[np.int64]) -> NDArray[np.float64]:
    """A number in [0, 1) for each pair, by the finaliser of the splitmix generator."""
    with np.errstate(over="ignore"):
        mixed = seeds + knots.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15)
        mixed = (mixed ^ (mixed >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        mixed = (mixed ^ (mixed >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        mixed ^= mixed >> np.uint64(31)
    return np.asarray((mixed >> np.uint64(11)).astype(np.float64) / 2.0**53)


def warp(seeds: NDArray[np.uint64], t: NDArray[np.float64] | float) -> NDArray[np.float64]:
    """Time run through noise: seconds since the origin in, the same out, strictly rising."""
    t = np.broadcast_to(np.asarray(t, np.float64), seeds.shape)
    total = t.copy()
    for number, (scale, share) in enumerate(NOISE):
        at = t / scale
        knot = np.floor(at).astype(np.int64)
        salted = seeds + np.uint64(number * 7919)
        low, high = _hash01(salted, knot), _hash01(salted, knot + 1)
        total += share * scale * (low + (high - low) * (at - knot))
    return total


def integral(classes: NDArray[np.int64], warped: NDArray[np.float64]) -> NDArray[np.float64]:
    """Seconds at full level since the origin, for each source's class."""
    weeks = np.floor(warped / WEEK)
    within = warped - weeks * WEEK
    slot = np.minimum((within // SLOT).astype(np.int64), SLOTS - 1)
    part = CUMULATED[classes, slot] + LEVEL[classes, slot] * (within - slot * SLOT)
    return np.asarray(weeks * CUMULATED[classes, SLOTS] + part)


@dataclass(frozen=True, slots=True)
class Sources:
    """m sources of traffic, each with a direction down (towards the client) and one up.

    Attributes
    ----------
    classes : (m,) index into CLASSES
    peak_bps : (m, 2) bits per second at full level, down and up
    seeds : (m,) for the noise
    """

    classes: NDArray[np.int64]
    peak_bps: NDArray[np.float64]
    seeds: NDArray[np.uint64]

    def octets(
        self, at: NDArray[np.float64] | float, chosen: NDArray[np.int64] | slice = slice(None)
    ) -> NDArray[np.float64]:
        """Octets since the origin, (m, 2).

        Parameters
        ----------
        at : seconds of the epoch, one or one a chosen source
        """
        t = np.asarray(at, np.float64) - ORIGIN
        seeds, classes = self.seeds[chosen], self.classes[chosen]
        down = integral(classes, warp(seeds, t))
        up = integral(classes, warp(seeds ^ np.uint64(0xA5A5A5A5), t))
        return np.stack([down, up], axis=1) * self.peak_bps[chosen] / 8.0
