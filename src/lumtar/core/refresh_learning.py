"""Finding out how an agent refreshes its counters, and staying in step with it.

:func:`learn` and :func:`sync` are generators that say when to read next and are sent what was read, so they know neither a clock
nor a socket.
"""

from collections.abc import Generator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from math import ceil

from lumtar.core.refresh import JITTER_S, Bracket, Kind, Refresh

OFTEN_S, SELDOM_S, SHARE_S = 0.1, 0.5, 0.05
"""Seconds between reads while a refresh is looked for: a share of the time for which it has been, within limits."""
ENOUGH_CHANGES, ENOUGH_READS = 3, 16
AT_ONCE_READS, AT_ONCE_SHARE = 12, 0.8
"""An agent counts at once if so large a share of so many reads differ from the one before."""
LONGEST_PERIOD_S = 60.0
VOTES = 3
"""Times that it is tried whether refreshes come by themselves; the majority decides."""
SYNC_READS, SYNC_ROUNDS = 5, 3
MISSES = 3
"""Syncs missed in a row after which nothing is known any more."""
UNSEEN = 1_000_000
"""Refreshes that count as gone by while the phase was lost; more than any date goes on over."""


@dataclass(frozen=True, slots=True)
class Look:
    """One read of some busy counters: seconds of the epoch when it was sent and answered, and the values."""

    sent: float
    answered: float
    values: tuple[int, ...]


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
