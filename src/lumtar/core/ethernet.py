"""Errors that only Ethernet knows (RFC 3635): what was counted between two looks, and duplex."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

COUNTERS = ("fcs_errors", "alignment_errors", "late_collisions")
"""Order of the columns: dot3StatsFCSErrors, dot3StatsAlignmentErrors, dot3StatsLateCollisions, all Counter32."""
EVERY = 300.0
"""Seconds between looks: errors are rare, and their counters do not wrap in that time."""
HALF, FULL = 2, 3
KNOWN_DUPLEX = (HALF, FULL)
DUPLEX = {1: "", HALF: "half duplex", FULL: "full duplex"}
"""dot3StatsDuplexStatus; 1 is unknown."""


@dataclass(frozen=True, slots=True)
class Seen:
    """What a device showed of its n Ethernet interfaces.

    Attributes
    ----------
    at : seconds of the epoch
    uptime : sysUpTime in hundredths of a second
    indexes : (n,) ifIndex, rising
    counters : (n, 3) in the order of COUNTERS
    duplex : (n,) dot3StatsDuplexStatus
    """

    at: float
    uptime: int
    indexes: NDArray[np.int64]
    counters: NDArray[np.int64]
    duplex: NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Errors:
    """What one interface counted; there is none of an interface without any."""

    if_index: int
    seconds: float
    counts: tuple[int, int, int]


def counted(before: Seen | None, after: Seen) -> list[Errors]:
    """Errors between two looks; none if the device restarted, since what came before that is not known."""
    if before is None or after.uptime < before.uptime:
        return []
    _, old, new = np.intersect1d(before.indexes, after.indexes, assume_unique=True, return_indices=True)
    deltas = (after.counters[new] - before.counters[old]) % 2**32
    # A counter that was set back looks as if it had gone nearly once round.
    believed = (deltas > 0) & (deltas < 2**31)
    deltas = np.where(believed, deltas, 0)
    seconds = after.at - before.at
    return [
        Errors(int(after.indexes[new[row]]), seconds, tuple(deltas[row].tolist()))
        for row in np.flatnonzero(deltas.any(axis=1))
    ]
