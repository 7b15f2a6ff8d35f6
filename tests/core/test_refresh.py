"""Learning how agents refresh their counters, on simulated agents in simulated time."""

import math
import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lumtar.core.refresh import Bracket, Dating, Kind, Refresh
from lumtar.core.refresh_learning import Look, learn, sync

RATE = 7_575_000
"""Octets a second: 60.6 Mb/s."""


class Agent:
    """Counts evenly, and refreshes what it shows as its kind does."""

    def __init__(self, kind, period, offset=0.0, delay=0.004, jitter=0.0):
        self.kind, self.period, self.offset, self.delay, self.jitter = kind, period, offset, delay, jitter
        self.random = random.Random(1)
        self.cached_at = float("-inf")
        self.reads = 0

    def counted_until(self, at):
        if self.kind is Kind.AT_ONCE:
            return at
        if self.kind is Kind.TICKS:
            tick = math.floor((at - self.offset) / self.period)
            wobble = random.Random(tick).uniform(-self.jitter, self.jitter)
            if at < tick * self.period + self.offset + wobble:
                tick -= 1
            return tick * self.period + self.offset
        if self.kind is Kind.ON_DEMAND:
            if at - self.cached_at >= self.period:
                self.cached_at = at
            return self.cached_at
        return at - at % (1 + 7 * random.Random(int(at / 9)).random())

    def read(self, at):
        self.reads += 1
        inside = at + self.delay * self.random.random()
        return Look(at, at + self.delay, (int(RATE * self.counted_until(inside)),))


def drive(reads, agent, now):
    """Carry a generator out; what it returns, and when it was done."""
    try:
        due = next(reads)
        while True:
            assert due >= now - 0.5, "it asks for reads that are over"
            now = max(now, due)
            look = agent.read(now)
            now = look.answered
            due = reads.send(look)
    except StopIteration as done:
        return done.value, now


def known_of(agent, now, syncs=10):
    refresh, now = drive(learn(now), agent, now)
    for _ in range(syncs):
        if refresh.kind is Kind.TICKS:
            now += refresh.sync_after_s
            refresh, now = drive(sync(refresh, now), agent, now)
    return refresh, now


@pytest.mark.parametrize("period", [1.0, 3.0, 3.01, 5.0, 10.0, 30.0])
@pytest.mark.parametrize("kind", [Kind.TICKS, Kind.ON_DEMAND])
def test_kinds_are_told_apart_and_the_period_is_learnt(kind, period):
    agent = Agent(kind, period, offset=0.123)
    refresh, _ = known_of(agent, 1_000_000.7)
    assert refresh.kind is kind
    assert abs(refresh.period - period) <= 0.6
    if kind is Kind.TICKS:
        assert refresh.low <= period <= refresh.high and refresh.period == pytest.approx(period, rel=0.01)


def test_an_agent_that_counts_at_once_costs_thirteen_reads():
    agent = Agent(Kind.AT_ONCE, 0)
    assert known_of(agent, 5.0)[0] == Refresh(Kind.AT_ONCE)
    assert agent.reads == 13


def test_irregular_refreshes_end_as_unknown_and_say_how_long_they_stood_still():
    refresh, _ = known_of(Agent(Kind.UNKNOWN, 0), 1000.0)
    assert refresh.kind is Kind.UNKNOWN and refresh.high > 1


def test_counters_that_never_change_are_unknown():
    class Idle(Agent):
        def read(self, at):
            return Look(at, at + 0.01, (7,))

    assert known_of(Idle(Kind.AT_ONCE, 0), 0.0)[0] == Refresh()


@settings(max_examples=60, deadline=None)
@given(
    period=st.floats(1.0, 30.0),
    offset=st.floats(0, 30),
    interval=st.sampled_from([10, 30, 60]),
    delay=st.floats(0.001, 0.05),
    kind=st.sampled_from([Kind.TICKS, Kind.ON_DEMAND]),
)
def test_constant_traffic_has_a_constant_rate(period, offset, interval, delay, kind):
    agent = Agent(kind, period, offset, delay, jitter=0.01)
    refresh, now = known_of(agent, 50_000.0 + offset)
    if refresh.kind is not kind:
        return
    dating, before, last, rates, synced = Dating(refresh), None, None, [], now
    begin = now
    for turn in range(1, 40):
        while kind is Kind.TICKS and synced + dating.refresh.sync_after_s < begin + turn * interval:
            now = max(now, synced + dating.refresh.sync_after_s)
            dating.refresh, now = drive(sync(dating.refresh, now), agent, now)
            synced = now
        at = dating.away_from(max(now, begin + turn * interval))
        look = agent.read(at)
        now = look.answered
        counted_at = dating.date(now, now, None if last is None else look.values != last, interval)
        last = look.values
        if math.isnan(counted_at):
            continue
        if before is not None and counted_at - before[0] < 0.5 * period:
            assert look.values == before[1], "the same refresh as before"
            continue
        if before is not None:
            rates.append((look.values[0] - before[1][0]) / (counted_at - before[0]))
        before = counted_at, look.values
    assert len(rates) > 5, (period, offset, interval, delay, kind, refresh)
    assert max(abs(rate / RATE - 1) for rate in rates) <= 0.02, (period, offset, interval, delay, kind, refresh)


def test_a_sync_that_is_missed_ends_dating_and_three_end_all_knowledge():
    agent = Agent(Kind.TICKS, 3.0)
    refresh, now = known_of(agent, 100.0)
    assert refresh.last(now) is not None
    agent.period = 4.7
    for miss in (1, 2):
        now += refresh.sync_after_s
        refresh, now = drive(sync(refresh, now), agent, now)
        if refresh.misses == miss:
            assert refresh.last(now) is None
    for _ in range(8):
        if refresh.kind is Kind.TICKS:
            now += refresh.sync_after_s
            refresh, now = drive(sync(refresh, now), agent, now)
    assert refresh.kind is Kind.UNKNOWN or abs(refresh.period - 4.7) < 0.2


def test_without_syncs_the_phase_is_lost_and_rates_go_by_the_clock():
    refresh = Refresh(Kind.TICKS, 2.999, 3.001, Bracket(999.95, 1000.05))
    dating = Dating(refresh)
    assert dating.period_at(1000.0 + 300) == 3.0
    assert dating.period_at(1000.0 + 3 * 3600) == 0.0
    assert Dating(Refresh(Kind.TICKS, 2.8, 3.2, Bracket(999.95, 1000.05))).period_at(1000.0) == 0.0, (
        "not known well enough"
    )
    assert Dating(Refresh(Kind.AT_ONCE)).period_at(1000.0) == 0.0


def test_after_a_restart_of_the_collector_the_phase_is_found_again():
    agent = Agent(Kind.TICKS, 5.0, offset=1.0)
    found, _ = drive(sync(Refresh(Kind.TICKS, 4.99, 5.01), 1000.3), agent, 1000.3)
    assert found.anchor is not None and found.anchor.low <= 1001.0 <= found.anchor.high


def test_near_a_refresh_it_is_told_by_what_changed():
    refresh = known_of(Agent(Kind.TICKS, 3.0), 99.0)[0]
    tick = refresh.anchor.middle + 3 * refresh.period
    number = refresh.number + 3
    assert refresh.last(tick + 0.001) is None
    assert refresh.last(tick + 0.001, changed=True)[0] == refresh.last(tick - 0.001, changed=True)[0] == number
    assert refresh.last(tick + 0.001, changed=False)[0] == refresh.last(tick - 0.001, changed=False)[0] == number - 1
    assert refresh.last(tick + 1.5) == (number, pytest.approx(tick, abs=1e-6))
    assert refresh.last(tick + 1.5, until=tick + 4) is None, "reading lasted across a refresh"
    assert refresh.last(refresh.away_from(tick + 0.001))[0] == number


def test_the_clock_was_set():
    refresh = known_of(Agent(Kind.TICKS, 3.0), 99.0)[0]
    at = refresh.anchor.middle + 10 * refresh.period + 1.5
    number, then = refresh.last(at)
    assert refresh.move_times(1000.0).last(at + 1000) == (number, pytest.approx(then + 1000, abs=1e-6))
    assert Refresh(Kind.AT_ONCE).move_times(5) == Refresh(Kind.AT_ONCE)
