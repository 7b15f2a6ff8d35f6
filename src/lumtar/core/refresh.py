"""When an agent counts: dating counters by the agent's own refresh.

Many agents copy their hardware's counters only every few seconds. What is read at an interval of 10 s was then counted over 9
or 12 s, and a rate over 10 s is wrong by up to a fifth although the volume is exact. Three kinds of agents are told apart:

* *at once*: a read gives what was counted until then;
* *ticks*: counters are refreshed every ``period``, whoever reads;
* *on demand*: a read refreshes them if what is there is older than ``period``.

What is known of the period and of the phase are intervals, never a single number: a period of 3.01 s that is taken for 3 s is a
refresh off after fifty minutes. How they are found out is in refresh_learning.py.
"""

from dataclasses import dataclass, replace
from enum import StrEnum
from math import floor

JITTER_S = 0.03
"""Seconds by which a refresh may come early or late, and a read may be stamped wrongly."""
SYNC_AFTER_S = 300.0
"""Seconds from one sync to the next at most; at first it is less, as long as the period is not known well."""
DOUBT_SHARE = 0.3
"""The share of a period by which the next refresh may come early or late when it is looked for."""
OUT_OF_STEP = 0.4
"""The share of a period by which the phase may be in doubt before it is out of step."""
SHARP = 0.012
"""The share by which a period may be off before rates are made from it."""
EDGE_SHARE = 0.08
"""The share of a period before and after which a refresh on demand may come unseen, between two requests of one poll."""
CATCH_UP = 0.004
"""The share of the time between two dates by which they are moved towards the phase."""
MARGIN_S = 0.3
"""Seconds that a poll keeps from the next refresh, beyond what is not known of it."""


class Kind(StrEnum):
    """How an agent refreshes its counters."""

    UNKNOWN = "unknown"
    AT_ONCE = "at once"
    TICKS = "ticks"
    ON_DEMAND = "on demand"


@dataclass(frozen=True, slots=True)
class Bracket:
    """A refresh happened after ``low`` and not after ``high`` (seconds of the epoch)."""

    low: float
    high: float

    @property
    def middle(self) -> float:
        """The likeliest time."""
        return (self.low + self.high) / 2

    @property
    def doubt(self) -> float:
        """Seconds that it may be off."""
        return (self.high - self.low) / 2


@dataclass(frozen=True, slots=True)
class Refresh:
    """What is known of an agent's refresh.

    Attributes
    ----------
    low, high : the period lies between, seconds; 0 if it is not known
    anchor : one refresh, of an agent with ticks; None if the phase is not known (any more)
    number : of that refresh, counted from the first one that was known
    misses : syncs that were missed in a row
    """

    kind: Kind = Kind.UNKNOWN
    low: float = 0.0
    high: float = 0.0
    anchor: Bracket | None = None
    number: int = 0
    misses: int = 0

    @property
    def period(self) -> float:
        """The likeliest period in seconds; 0 where there is none."""
        return (self.low + self.high) / 2

    @property
    def words(self) -> str:
        """How the agent refreshes its counters, for people."""
        match self.kind:
            case Kind.AT_ONCE:
                return "counts at once"
            case Kind.TICKS:
                return f"refreshes its counters every {self.period:.1f} s"
            case Kind.ON_DEMAND:
                return f"refreshes its counters when it is asked, at most every {self.period:.1f} s"
        if self.high:
            return f"refreshes its counters at irregular times, up to {self.high:.1f} s apart"
        return ""

    def doubt_of(self, seconds: float) -> float:
        """The share by which a rate over so many seconds by the clock may be off; 0 if the agent counts at once or if that is not known."""
        return self.high / seconds if self.kind is not Kind.AT_ONCE and seconds > 0 else 0.0

    @property
    def can_be_told(self) -> bool:
        """Whether period and phase of an agent with ticks are known well enough to make rates from them."""
        return self.kind is Kind.TICKS and self.anchor is not None and self.high - self.low <= 2 * SHARP * self.period

    def is_in_step(self, at: float) -> bool:
        """Whether the phase is known so well at a time that most reads can be dated; without syncs it is lost in the end."""
        return self.can_be_told and self._beside(at)[2] + JITTER_S < OUT_OF_STEP * self.period

    @property
    def sync_after_s(self) -> float:
        """Seconds until the phase should be looked at again: before it is in doubt."""
        if self.anchor is None:
            return 2 * self.high
        turns = (DOUBT_SHARE * self.period - self.anchor.doubt) / max(1e-9, (self.high - self.low) / 2)
        return min(SYNC_AFTER_S, max(2.0, turns) * self.period)

    def move_times(self, step: float) -> "Refresh":
        """The clock was set by so many seconds."""
        if self.anchor is None:
            return self
        return replace(self, anchor=Bracket(self.anchor.low + step, self.anchor.high + step))

    def _beside(self, at: float) -> tuple[int, float, float]:
        """Refreshes from the anchor to the last one before ``at``, seconds since that one, and the doubt in that."""
        assert self.anchor is not None
        turns = (at - self.anchor.middle) / self.period
        whole = floor(turns)
        doubt = self.anchor.doubt + abs(whole) * (self.high - self.low) / 2
        return whole, (turns - whole) * self.period, doubt

    def last(self, at: float, until: float | None = None, changed: bool | None = None) -> tuple[int, float] | None:
        """The refresh that counters which were read at a time show, for an agent with ticks.

        Parameters
        ----------
        at, until : seconds of the epoch when reading began and ended
        changed : whether they differ from what was read less than a period before, if that is known

        Returns
        -------
        its number, and when it was in seconds of the epoch; None if it cannot be told which of two refreshes it was
        """
        if not self.can_be_told:
            return None
        assert self.anchor is not None
        whole, since, doubt = self._beside(at)
        doubt += JITTER_S
        end = since + max(0.0, (until or at) - at)
        if end + doubt >= self.period or since <= doubt:
            if changed is None or 2 * doubt >= self.period or end - since > doubt:
                return None
            nearer_next = since > self.period / 2
            whole += int(nearer_next) if changed else -int(not nearer_next)
        return self.number + whole, self.anchor.middle + whole * self.period

    def away_from(self, at: float) -> float:
        """The first time from ``at`` on at which it can be told which refresh a read shows."""
        if not self.is_in_step(at):
            return at
        assert self.anchor is not None
        _, since, doubt = self._beside(at)
        margin = min(doubt + MARGIN_S, self.period / 2)
        if since < margin:
            return at + margin - since
        if self.period - since < margin:
            return at + self.period - since + margin
        return at


@dataclass(slots=True)
class Dating:
    """Dates what is read of one agent, read after read.

    Attributes
    ----------
    read_at : when it was read last
    refreshed_at : when a read refreshed an agent on demand last, as far as is known
    """

    refresh: Refresh = Refresh()
    read_at: float = float("-inf")
    refreshed_at: float = float("-inf")
    _dated: tuple[int, float] | None = None

    def period_at(self, at: float) -> float:
        """Seconds from one refresh to the next where dates can be given; 0 where the agent counts at once, or that is not known then."""
        known = self.refresh.kind is Kind.ON_DEMAND or self.refresh.is_in_step(at)
        return self.refresh.period if known else 0.0

    def date(self, at: float, until: float, changed: bool | None = None, gap_s: float = float("inf")) -> float:
        """When the counters that were read from ``at`` until ``until`` had been refreshed (seconds of the epoch).

        NaN if they count at once, or if it is not known.

        Parameters
        ----------
        changed : whether they differ from what was read ``gap_s`` seconds before, if that is known
        """
        before, self.read_at = self.read_at, at
        if self.refresh.kind is Kind.ON_DEMAND:
            stale_s = 1.1 * self.refresh.high
            # Refreshed by this read for sure, or by one before it without anything having been counted since.
            if changed or stale_s <= at - before < float("inf") or stale_s <= at - self.refreshed_at < float("inf"):
                self.refreshed_at = at
            return self.refreshed_at if self.refreshed_at > float("-inf") else float("nan")
        # Over more than a period something has changed whatever happened just now.
        dated = self.refresh.last(at, until, changed if gap_s < 0.9 * self.refresh.low else None)
        if dated is None:
            return float("nan")
        if self._dated is not None:
            # Between two dates lie whole periods, also when a sync has moved the phase a little meanwhile: that is made up for slowly.
            number, then = self._dated
            counted = then + (dated[0] - number) * self.refresh.period
            most = CATCH_UP * (counted - then)
            if abs(dated[1] - counted) < 2 * self.refresh.period:
                dated = dated[0], counted + min(most, max(-most, dated[1] - counted))
        self._dated = dated
        return dated[1]

    def away_from(self, at: float) -> float:
        """The first time from ``at`` on at which a read can be dated for sure.

        An agent on demand that is asked about a period after its last refresh may refresh its counters in the middle of being read.
        """
        if self.refresh.kind is not Kind.ON_DEMAND:
            return self.refresh.away_from(at)
        age, edge = at - self.refreshed_at, EDGE_SHARE * self.refresh.period
        sure = self.refreshed_at + self.refresh.high + edge
        return sure if self.refresh.low - edge < age < self.refresh.high + edge else at

    def move_times(self, step: float) -> None:
        """The clock was set by so many seconds."""
        self.refresh = self.refresh.move_times(step)
        self.read_at += step
        self.refreshed_at += step
        if self._dated is not None:
            self._dated = self._dated[0], self._dated[1] + step
