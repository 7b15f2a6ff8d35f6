"""When an agent counts: dating counters by the agent's own refresh.

Many agents copy their hardware's counters only every few seconds. What is read at an interval of 10 s was then counted over 9
or 12 s, and a rate over 10 s is wrong by up to a fifth although the volume is exact. Three kinds of agents are told apart:

* *at once*: a read gives what was counted until then;
* *ticks*: counters are refreshed every ``period``, whoever reads;
* *on demand*: a read refreshes them if what is there is older than ``period``.

:func:`learn` and :func:`sync` are generators that say when to read next and are sent what was read, so they know neither a clock
nor a socket. What they know of the period and of the phase are intervals, never a single number: a period of 3.01 s that is taken
for 3 s is a refresh off after fifty minutes.
"""

from collections.abc import Generator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from itertools import pairwise
from math import ceil, floor

OFTEN_S, SELDOM_S, SHARE_S = 0.1, 0.5, 0.05
"""Seconds between reads while a refresh is looked for: a share of the time for which it has been, within limits."""
ENOUGH_CHANGES, ENOUGH_READS = 3, 16
AT_ONCE_READS, AT_ONCE_SHARE = 12, 0.8
LONGEST_PERIOD_S = 60.0
VOTES = 3
JITTER_S = 0.03
"""Seconds by which a refresh may come early or late, and a read may be stamped wrongly."""
SYNC_READS, SYNC_ROUNDS = 5, 3
SYNC_AFTER_S = 300.0
"""Seconds from one sync to the next at most; at first it is less, as long as the period is not known well."""
OUT_OF_STEP = 0.4
"""The share of a period by which the phase may be in doubt before it is out of step."""
DOUBT_SHARE = 0.3
"""The share of a period by which the next refresh may come early or late when it is looked for."""
UNSEEN = 1_000_000
SHARP = 0.012
"""The share by which a period may be off before rates are made from it."""
EDGE_SHARE = 0.08
"""The share of a period before and after which a refresh on demand may come unseen, between two requests of one poll."""
CATCH_UP = 0.004
"""The share of the time between two dates by which they are moved towards the phase."""
MISSES = 3
"""Syncs missed in a row after which nothing is known any more."""
MARGIN_S = 0.3
"""Seconds that a poll keeps from the next refresh, beyond what is not known of it."""


class Kind(StrEnum):
    """How an agent refreshes its counters."""

    UNKNOWN = "unknown"
    AT_ONCE = "at once"
    TICKS = "ticks"
    ON_DEMAND = "on demand"


@dataclass(frozen=True, slots=True)
class Look:
    """One read of some busy counters: seconds of the epoch when it was sent and answered, and the values."""

    sent: float
    answered: float
    values: tuple[int, ...]


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


Reads = Generator[float, Look, Refresh]
"""Yields the time of the next read, is sent what was read, returns what is known then."""


def learn(now: float) -> Reads:
    """Find out how an agent refreshes its counters.

    The counters that are read must be so busy that each refresh changes one of them. An agent that counts at once costs twelve
    reads, one with a period of up to 10 s forty to a hundred, one of 30 s two hundred.
    """
    looks: list[Look] = []
    changes: list[Bracket] = []
    due = now
    while len(changes) < ENOUGH_CHANGES or len(looks) <= ENOUGH_READS:
        look = yield due
        if looks and look.values != looks[-1].values:
            changes.append(Bracket(looks[-1].sent, look.answered))
        looks.append(look)
        compared = len(looks) - 1
        if compared >= AT_ONCE_READS and len(changes) >= AT_ONCE_SHARE * compared:
            return Refresh(Kind.AT_ONCE)
        if look.answered - now > ENOUGH_CHANGES * LONGEST_PERIOD_S:
            return Refresh(high=_longest(changes))
        due = look.sent + min(SELDOM_S, max(OFTEN_S, SHARE_S * (look.answered - now)))
    period = _period(changes)
    if period is None or period[1] > LONGEST_PERIOD_S:
        return Refresh(high=_longest(changes))
    return (yield from _tell_apart(changes, *period))


def _tell_apart(changes: list[Bracket], low: float, high: float) -> Reads:
    """Whether refreshes come by themselves or because somebody reads.

    After a refresh nothing is read for one and a half periods; that read refreshes what is refreshed on demand. Three quarters of a
    period later only what ticks has changed again, and half a period after that only what is refreshed on demand.
    """
    period = (low + high) / 2
    ticks = demands = 0
    for vote in range(VOTES):
        if vote:
            change = yield from _next_change(changes[-1].middle + 4 * period, period)
            if change is None:
                return Refresh(high=high)
            changes.append(change)
        begin = changes[-1].middle + 1.5 * period
        first = yield begin
        second = yield begin + 0.75 * period
        third = yield begin + 1.25 * period
        ticks += second.values != first.values
        demands += second.values == first.values and third.values != second.values
        if max(ticks, demands) > VOTES // 2:
            break
    if demands > VOTES // 2:
        return Refresh(Kind.ON_DEMAND, low, high)
    if ticks <= VOTES // 2:
        return Refresh(high=high)
    narrowed = _narrow(changes, low, high)
    return Refresh(high=high) if narrowed is None else Refresh(Kind.TICKS, *narrowed, anchor=changes[-1])


def _next_change(begin: float, period: float) -> Generator[float, Look, Bracket | None]:
    """Read often until something changes; None if nothing does for more than two periods."""
    pause = min(SELDOM_S, max(OFTEN_S, SHARE_S * period))
    before, due = (yield begin), begin + pause
    while due < begin + 2.2 * period + 1.0:
        look = yield due
        if look.values != before.values:
            return Bracket(before.sent, look.answered)
        before, due = look, look.sent + pause
    return None


def sync(known: Refresh, now: float) -> Reads:
    """Look when the next refresh comes: five reads around the time at which it is expected, and again until that is known well.

    A refresh that does not come then, or a second one, is a miss: nothing is dated until the phase is found again, and after three
    misses in a row nothing is known of the agent any more.
    """
    if known.anchor is None or not known.period:
        change = yield from _next_change(now, known.high)
        if change is None:
            return _missed(known)
        # How many refreshes went by unseen is not known: no date goes on from one before.
        return replace(known, anchor=change, number=known.number + UNSEEN)
    for _ in range(SYNC_ROUNDS):
        known, now = yield from _sync_once(known, now)
        if known.anchor is None or known.anchor.doubt <= max(2 * JITTER_S, 0.02 * known.period):
            break
    return known


def _sync_once(known: Refresh, now: float) -> Generator[float, Look, tuple[Refresh, float]]:
    assert known.anchor is not None
    turns = max(1, ceil((now - known.anchor.middle) / known.period))
    while True:
        expected = known.anchor.middle + turns * known.period
        width = known.anchor.doubt + turns * (known.high - known.low) / 2 + max(2 * JITTER_S, 0.02 * known.period)
        if 2 * width >= known.period:
            return _missed(known), now
        if expected - width >= now:
            break
        turns += 1
    looks: list[Look] = []
    for number in range(SYNC_READS):
        looks.append((yield expected - width + number * 2 * width / (SYNC_READS - 1)))
    changes = [
        Bracket(before.sent, after.answered) for before, after in pairwise(looks) if before.values != after.values
    ]
    if len(changes) != 1:
        return _missed(known), now
    change = changes[0]
    low = max(known.low, (change.low - known.anchor.high - JITTER_S) / turns)
    high = min(known.high, (change.high - known.anchor.low + JITTER_S) / turns)
    if low > high:
        return _missed(known), now
    return Refresh(known.kind, low, high, change, known.number + turns), looks[-1].answered


def _missed(known: Refresh) -> Refresh:
    if known.misses + 1 >= MISSES:
        return Refresh(high=known.high)
    return replace(known, anchor=None, misses=known.misses + 1)


def _period(changes: Sequence[Bracket]) -> tuple[float, float] | None:
    """Between which periods successive changes agree; None if they do not."""
    low, high = 0.0, float("inf")
    for place, later in enumerate(changes):
        for turns, earlier in enumerate(reversed(changes[:place]), 1):
            low = max(low, (later.low - earlier.high - JITTER_S) / turns)
            high = min(high, (later.high - earlier.low + JITTER_S) / turns)
    return (low, high) if low <= high else None


def _narrow(changes: Sequence[Bracket], low: float, high: float) -> tuple[float, float] | None:
    """The period by changes between which others were not seen, the nearest first, as far as it is beyond doubt how many those were."""
    for earlier in reversed(changes[:-1]):
        later = changes[-1]
        turns = round((later.middle - earlier.middle) / ((low + high) / 2))
        if turns < 1 or turns * (high - low) / 2 + later.doubt + earlier.doubt > 0.4 * low:
            continue
        low = max(low, (later.low - earlier.high - JITTER_S) / turns)
        high = min(high, (later.high - earlier.low + JITTER_S) / turns)
        if low > high:
            return None
    return low, high


def _longest(changes: Sequence[Bracket]) -> float:
    """The longest that counters stood still, in seconds; 0 if they never changed twice."""
    return max((later.high - earlier.low for earlier, later in pairwise(changes)), default=0.0)


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
