"""What was counted between two polls, in all the cases that go wrong in the field."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.counters import FASTEST_BPS, VOID, Flag
from tests.core.examples import counted, snapshot

START = 1_000_000


def octets(result):
    return int(result.deltas[0, 0]), int(result.deltas[0, 1])


def flags(result):
    return Flag(int(result.flags[0]))


def test_a_plain_minute():
    result = counted(snapshot(START, (1000, 5000)), snapshot(START + 60, (61_000, 905_000)))
    assert octets(result) == (60_000, 900_000)
    assert result.elapsed_ms[0] == 60_000
    assert flags(result) == Flag.NONE


def test_the_first_poll_counts_nothing():
    result = counted(snapshot(0), snapshot(START, (10**15, 10**15)), first=True)
    assert octets(result) == (0, 0)
    assert result.elapsed_ms[0] == 0
    assert flags(result) == Flag.FIRST


@pytest.mark.parametrize(("wide", "end"), [(False, 2**32), (True, 2**64)])
def test_a_counter_that_passes_its_end(wide, end):
    result = counted(snapshot(START, (end - 1000, 0), wide=wide), snapshot(START + 60, (500, 7), wide=wide))
    assert octets(result) == (1500, 7)
    assert Flag.WRAPPED in flags(result)
    assert not flags(result) & VOID


@given(
    steps=st.lists(st.integers(0, 7_000_000_000), min_size=1, max_size=30),
    start=st.integers(0, 2**64 - 1),
    wide=st.booleans(),
)
def test_volumes_add_up_across_any_wrap(steps, start, wide):
    """Deltas sum to what really flowed, wherever the counter stood, as long as it cannot wrap twice in a minute."""
    bits = 64 if wide else 32
    if not wide:
        steps = [step % 400_000_000 for step in steps]
    total, before = start, snapshot(START, (start % 2**bits, 0), wide=wide)
    added = 0
    for number, step in enumerate(steps, 1):
        total += step
        after = snapshot(START + 60 * number, (total % 2**bits, 0), wide=wide)
        added += octets(counted(before, after, moved=False))[0]
        before = after
    assert added == sum(steps)


def test_a_restart_is_not_a_wrap():
    before = snapshot(START, (4_000_000_000, 10), wide=False)
    after = snapshot(START + 60, (90_000, 20), uptime=3000, wide=False)
    result = counted(before, after)
    assert flags(result) & (Flag.RESTARTED | Flag.WRAPPED) == Flag.RESTARTED
    assert octets(result) == (0, 0)
    assert result.elapsed_ms[0] == 0


def test_sysuptime_passing_its_end_is_no_restart():
    result = counted(snapshot(START, (1000, 0), uptime=2**32 - 3000), snapshot(START + 60, (2000, 0), uptime=3000))
    assert octets(result) == (1000, 0)
    assert result.elapsed_ms[0] == 60_000
    assert flags(result) == Flag.NONE


def test_the_devices_clock_is_preferred():
    """The answer came 0.8 s late, but the device counted over exactly 60 s."""
    result = counted(snapshot(START, uptime=100_000), snapshot(START + 60.8, (600, 0), uptime=106_000))
    assert result.elapsed_ms[0] == 60_000


def test_a_device_whose_clock_stands_still_is_timed_by_the_collector():
    result = counted(snapshot(START, uptime=500), snapshot(START + 60, (600, 0), uptime=500))
    assert Flag.OWN_CLOCK in flags(result)
    assert result.elapsed_ms[0] == 60_000
    assert octets(result) == (600, 0)


def test_without_sysuptime_the_collectors_clock_serves():
    result = counted(snapshot(START, uptime=-1), snapshot(START + 60, (600, 0), uptime=-1))
    assert result.elapsed_ms[0] == 60_000
    assert Flag.RESTARTED not in flags(result)


def test_a_discontinuity_voids_the_delta():
    result = counted(snapshot(START, (1000, 0)), snapshot(START + 60, (2000, 0), discontinuity=4242))
    assert flags(result) == Flag.DISCONTINUITY
    assert octets(result) == (0, 0)


@pytest.mark.parametrize(
    ("after", "why"),
    [((10, 0), "a 64-bit counter set back to zero"), ((10**14, 0), "more than any line can carry in a minute")],
)
def test_what_cannot_be_is_not_counted(after, why):
    result = counted(snapshot(START, (10**12, 0)), snapshot(START + 60, after))
    assert Flag.IMPLAUSIBLE in flags(result), why
    assert octets(result) == (0, 0)


def test_a_32_bit_counter_set_back_is_no_wrap_if_the_line_could_not_carry_it():
    result = counted(
        snapshot(START, (3_000_000_000, 0), wide=False), snapshot(START + 60, (100, 0), wide=False), speed=10e6
    )
    assert Flag.IMPLAUSIBLE in flags(result)


def test_a_virtual_interface_may_be_faster_than_it_says():
    result = counted(snapshot(START, (0, 0)), snapshot(START + 60, (6 * 10**9, 0)), speed=10e6)
    assert octets(result) == (6 * 10**9, 0)
    assert flags(result) == Flag.NONE


def test_without_octet_counters_nothing_is_counted():
    result = counted(snapshot(START, present=False), snapshot(START + 60, present=False))
    assert flags(result) & Flag.MISSING
    assert result.elapsed_ms[0] == 0


def test_a_change_of_width_starts_over():
    result = counted(snapshot(START, (10**12, 0), wide=True), snapshot(START + 60, (5000, 0), wide=False))
    assert flags(result) & Flag.FIRST
    assert octets(result) == (0, 0)


class TestSlowRefresh:
    """A device that refreshes its counters every 90 s shows the same figures at some polls."""

    def test_a_busy_interface_that_stands_still_is_held(self):
        result = counted(snapshot(START, (5000, 5000)), snapshot(START + 60, (5000, 5000)))
        assert flags(result) == Flag.HELD
        assert result.elapsed_ms[0] == 0

    def test_the_next_reading_covers_both_minutes(self):
        result = counted(snapshot(START, (5000, 5000)), snapshot(START + 120, (125_000, 5000)), holds=1)
        assert octets(result) == (120_000, 0)
        assert result.elapsed_ms[0] == 120_000

    def test_silence_is_believed_at_last(self):
        result = counted(snapshot(START, (5000, 5000)), snapshot(START + 180, (5000, 5000)), holds=2)
        assert not flags(result) & VOID
        assert result.elapsed_ms[0] == 180_000

    @pytest.mark.parametrize("quiet", [{"moved": False}, {"up": False}])
    def test_an_idle_or_downed_interface_is_believed_at_once(self, quiet):
        result = counted(snapshot(START, (5000, 0)), snapshot(START + 60, (5000, 0)), **quiet)
        assert result.elapsed_ms[0] == 60_000


class TestGaps:
    def test_a_reading_across_a_gap_keeps_its_volume(self):
        result = counted(snapshot(START, (0, 0)), snapshot(START + 7200, (9 * 10**9, 0)))
        assert flags(result) == Flag.BRIDGED
        assert octets(result) == (9 * 10**9, 0)
        assert result.elapsed_ms[0] == 7_200_000

    def test_across_a_gap_32_bits_may_have_wrapped_unseen(self):
        result = counted(snapshot(START, (0, 0), wide=False), snapshot(START + 7200, (9000, 0), wide=False))
        assert flags(result) & (Flag.BRIDGED | Flag.RISKY | Flag.NARROW) == Flag.BRIDGED | Flag.RISKY | Flag.NARROW
        assert octets(result) == (0, 0)


@pytest.mark.parametrize(
    ("speed", "interval", "risky"),
    [(1e9, 60, True), (1e9, 30, False), (1e8, 60, False), (1e8, 400, True), (0.0, 60, True)],
)
def test_a_32_bit_counter_is_warned_of_when_it_can_wrap_twice(speed, interval, risky):
    """RFC 2863 section 3.1.6: at 1 Gb/s 32 bits of octets last 34 seconds."""
    result = counted(
        snapshot(START, wide=False), snapshot(START + interval, (99, 0), wide=False), speed=speed, interval=interval
    )
    assert (Flag.RISKY in flags(result)) is risky


@given(
    before=st.integers(0, 2**64 - 1),
    after=st.integers(0, 2**64 - 1),
    elapsed=st.floats(0.001, 1e6),
    uptime=st.integers(-1, 2**32 - 1),
    errors=st.integers(0, 2**32 - 1),
    wide=st.booleans(),
    present=st.booleans(),
)
def test_whatever_a_device_says_the_result_is_sound(before, after, elapsed, uptime, errors, wide, present):
    """No negative delta, no delta without time, nothing beyond line speed."""
    result = counted(
        snapshot(START, (before, 0), wide=wide),
        snapshot(START + elapsed, (after, 0), uptime=uptime, errors=errors, wide=wide, present=present),
    )
    assert (result.deltas >= 0).all()
    if result.elapsed_ms[0] == 0:
        assert not result.deltas.any()
    else:
        seconds = result.elapsed_ms[0] / 1000
        assert result.deltas[0, 0] <= 1.5 * FASTEST_BPS / 8 * (seconds + 0.001) + 2_000_001
    assert result.deltas.dtype == np.int64
