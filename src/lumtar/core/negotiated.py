"""What links negotiated: their speed against the fastest that they had lately, and their duplex."""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lumtar.core.ethernet import HALF, KNOWN_DUPLEX

REMEMBERED_S = 30 * 86_400.0
"""For so long a link is measured against a speed that it had; after that the lower one is taken as wanted."""

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(slots=True)
class Negotiated:
    """What is remembered of links, one slot each.

    Attributes
    ----------
    fastest_bps : the fastest speed while the link was up, bits per second; 0 is none
    fastest_at : seconds of the epoch at which it had that speed last
    half_duplex : 1, or 0 for full duplex; NaN where that is not known
    """

    fastest_bps: Floats = field(default_factory=lambda: np.zeros(0))
    fastest_at: Floats = field(default_factory=lambda: np.zeros(0))
    half_duplex: Floats = field(default_factory=lambda: np.zeros(0))

    def grow(self, size: int) -> None:
        """Make room for so many links."""
        more = size - len(self.fastest_bps)
        self.fastest_bps, self.fastest_at = np.pad(self.fastest_bps, (0, more)), np.pad(self.fastest_at, (0, more))
        self.half_duplex = np.pad(self.half_duplex, (0, more), constant_values=np.nan)

    def forget(self, slots: Ints) -> None:
        """Other links may take these places."""
        self.fastest_bps[slots] = self.fastest_at[slots] = 0.0
        self.half_duplex[slots] = np.nan

    def note_speed(self, slots: Ints, at: Floats, port_bps: Floats, is_up: NDArray[np.bool_]) -> Floats:
        """Take in the speeds of some links, and give the fastest of each, NaN where none is known.

        A link that is down states any speed, or none.
        """
        is_over = at - self.fastest_at[slots] > REMEMBERED_S
        renews = is_up & (port_bps > 0) & ((port_bps >= self.fastest_bps[slots]) | is_over)
        self.fastest_bps[slots] = np.where(renews, port_bps, self.fastest_bps[slots])
        self.fastest_at[slots] = np.where(renews, at, self.fastest_at[slots])
        fastest = self.fastest_bps[slots]
        return np.where(fastest > 0, fastest, np.nan)

    def note_duplex(self, slot: int, duplex: int) -> None:
        """Take in the duplex of a link (dot3StatsDuplexStatus)."""
        self.half_duplex[slot] = is_half(np.array([duplex]))[0]


def is_half(duplex: NDArray[np.integer]) -> Floats:
    """1 for half duplex, 0 for full; NaN for what is not known (dot3StatsDuplexStatus)."""
    return np.where(np.isin(duplex, KNOWN_DUPLEX), duplex == HALF, np.nan)


def fastest_until(since: Floats, bps: Floats, at: Floats) -> Floats:
    """The fastest speed of one link within REMEMBERED_S before each of some times, from the speeds that it had.

    Parameters
    ----------
    since : (s,) seconds of the epoch from which on the link had each speed, rising
    bps : (s,) the speeds
    at : (t,) times

    Returns
    -------
    (t,) NaN where no speed is known
    """
    until = np.append(since[1:], np.inf)
    there = (since[None, :] <= at[:, None]) & (until[None, :] > at[:, None] - REMEMBERED_S)
    fastest = np.where(there, bps[None, :], 0.0).max(axis=1, initial=0.0)
    return np.where(fastest > 0, fastest, np.nan)
