"""Looking at a few ports every few seconds, for as long as somebody watches."""

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from lumtar.core.counters import MAX_HOLDS, VOID, Counted, Flag, Snapshot, count
from lumtar.core.refresh import Dating
from lumtar.core.rows import join_rows, take_rows

STANDSTILL = 15.0
"""Seconds for which a busy port may stand still before the silence is believed: many devices renew
their counters only every few seconds, and would seem to stop and to burst."""
SHARE = 0.25
"""A device spends at most this share of the time on answering looks."""
SLOWEST = 10.0
"""Seconds between looks at a device that stays silent."""


def pace(wanted_s: float, took_s: float, silent: int) -> float:
    """Seconds from one look to the next.

    Parameters
    ----------
    wanted_s : what was asked for
    took_s : what the last look took
    silent : looks in a row that were not answered; each one doubles the pause, up to SLOWEST
    """
    unhurried = max(wanted_s, took_s / SHARE)
    return unhurried if not silent else min(unhurried * 2.0**silent, max(SLOWEST, unhurried))


@dataclass(slots=True)
class Watched:
    """n ports of one device between one look and the next. Only octets are looked at; other counters are 0.

    Attributes
    ----------
    moved : (n,) whether the last time that was counted had traffic; at first what the polls say
    dating : when the device refreshes its counters
    """

    moved: NDArray[np.bool_]
    dating: Dating = field(default_factory=Dating)
    before: Snapshot | None = None
    _last: Snapshot | None = None

    def take(self, after: Snapshot, is_up: NDArray[np.bool_], speed_bps: NDArray[np.float64]) -> Counted:
        """What was counted since the last look that counted; a look that found nothing renewed is held.

        Parameters
        ----------
        after : the same n ports each time
        is_up : (n,) ifOperStatus is up
        speed_bps : (n,) 0 where unknown
        """
        after = self._dated(after)
        first = self.before is None
        before = after if self.before is None else self.before
        stood = after.at - before.at
        counted = count(
            before,
            after,
            first=np.full(len(after.at), first),
            interval=np.maximum(stood, STANDSTILL),
            speed_bps=speed_bps,
            moved=self.moved,
            holds=np.where(stood < STANDSTILL, 0, MAX_HOLDS).astype(np.int16),
            is_up=is_up,
        )
        held = (counted.flags & np.int16(Flag.HELD)) != 0
        kept = held | ((counted.flags & np.int16(VOID)) != 0)
        self.moved = np.where(kept, self.moved, (counted.deltas != 0).any(axis=1))
        self.before = _chosen(held, before, after)
        return counted

    def _dated(self, after: Snapshot) -> Snapshot:
        """A look with the time at which the device had refreshed what it shows."""
        last, self._last = self._last, after
        if not len(after.at) or not (period := self.dating.period_at(float(after.at[0]))):
            return after
        at, changed, gap_s = float(after.at[0]), None, float("inf")
        if last is not None:
            changed, gap_s = bool((after.counters != last.counters).any()), at - float(last.at[0])
        counted_at = self.dating.date(at, at, changed, gap_s)
        return replace(after, counted_at=np.full_like(after.at, counted_at), refresh_s=np.full_like(after.at, period))


def _chosen(held: NDArray[np.bool_], before: Snapshot, after: Snapshot) -> Snapshot:
    """The rows of ``before`` where held, else those of ``after``."""
    places = np.arange(len(held)) + np.where(held, 0, len(held))
    return take_rows(join_rows([before, after]), places)
