"""Counting between two refreshes of the agent instead of between two polls."""

from dataclasses import replace

import numpy as np
import pytest

from lumtar.core.calculation import of_rate
from lumtar.core.counters import MAX_HOLDS, VOID, Flag
from lumtar.core.live import Watched
from lumtar.core.refresh import Bracket, Dating, Kind, Refresh
from lumtar.core.speeds import SpeedSource
from tests.core.examples import counted, snapshot


def dated(at, octets, counted_at, period=3.0, **more):
    return replace(snapshot(at, (octets, 0), **more), counted_at=np.array([counted_at]), refresh_s=np.array([period]))


def test_the_time_is_that_between_the_refreshes():
    seen = counted(dated(10, 0, 9.0), dated(20, 9000, 18.0))
    assert (seen.deltas[0, 0], seen.elapsed_ms[0], seen.flags[0]) == (9000, 9000, Flag.DATED)


def test_without_a_new_refresh_the_next_reading_covers_this_one():
    for holds in (0, MAX_HOLDS, 20):
        seen = counted(dated(10, 500, 0.0, 30.0), dated(20, 500, 0.0, 30.0), interval=10, holds=holds, moved=False)
        assert seen.flags[0] & Flag.HELD and seen.elapsed_ms[0] == 0
    seen = counted(dated(10, 500, 0.0, 30.0), dated(30, 3500, 30.0, 30.0), interval=10)
    assert (seen.deltas[0, 0], seen.elapsed_ms[0]) == (3000, 30_000)
    assert not seen.flags[0] & Flag.BRIDGED, "a period longer than the interval is no gap"


def test_what_cannot_be_dated_is_held_twice_and_then_goes_by_the_clock():
    unsure = dated(20, 900, np.nan)
    assert counted(dated(10, 0, 9.0), unsure, holds=0).flags[0] & Flag.HELD
    seen = counted(dated(10, 0, 9.0), unsure, holds=MAX_HOLDS)
    assert (seen.deltas[0, 0], seen.elapsed_ms[0]) == (900, 10_000) and not seen.flags[0] & Flag.DATED


def test_a_date_that_is_refuted_by_what_was_counted_is_not_believed():
    seen = counted(dated(10, 0, 9.0), dated(20, 900, 9.0))
    assert (seen.deltas[0, 0], seen.elapsed_ms[0]) == (900, 10_000) and not seen.flags[0] & (VOID | Flag.DATED)


def test_a_restart_and_a_first_poll_stay_what_they_are():
    assert counted(dated(10, 0, 9.0), dated(20, 900, 18.0), first=True).flags[0] & Flag.FIRST
    seen = counted(dated(1000, 9000, 999.0), dated(1010, 100, 1008.0, uptime=500))
    assert seen.flags[0] & Flag.RESTARTED and not seen.flags[0] & Flag.DATED


def test_looks_every_second_show_an_even_rate_from_the_first_refresh_on():
    dating = Dating(Refresh(Kind.TICKS, 2.999, 3.001, Bracket(999.99, 1000.01)))
    watched, rates = Watched(np.ones(1, np.bool_), dating), []
    for tenth in range(0, 400, 10):
        at = 1000.45 + tenth / 10
        look = watched.take(snapshot(at, (1000 * 3 * int((at - 1000) // 3), 0)), np.ones(1, np.bool_), np.array([1e9]))
        if not look.flags[0] & VOID:
            rates.append(look.deltas[0, 0] * 1000 / look.elapsed_ms[0])
    assert len(rates) >= 12 and rates == pytest.approx([1000] * len(rates), rel=0.01)


@pytest.mark.parametrize(
    ("flags", "refresh", "words"),
    [
        (
            Flag.DATED,
            Refresh(Kind.TICKS, 2.99, 3.01),
            "counted over 12.0 s: this agent refreshes its counters every 3.0 s",
        ),
        (
            0,
            Refresh(high=8.0),
            "this agent refreshes its counters at irregular times, up to 8.0 s apart:"
            " the rate may be off by up to 67 %, the volume is exact",
        ),
        (0, Refresh(), "not known yet how often this agent refreshes its counters"),
    ],
)
def test_the_calculation_says_how_the_time_is_known(flags, refresh, words):
    how = of_rate("in", 1, 1200, 12_000, int(flags), 0, SpeedSource.UNKNOWN, refresh)
    assert words in how.lines


def test_of_an_agent_that_counts_at_once_there_is_nothing_to_say():
    assert not any("refresh" in line for line in of_rate("in", 1, 1200, 12_000, 0, 0, SpeedSource.UNKNOWN).lines)
