"""The ledger: what follows from poll after poll."""

import numpy as np
import pytest

from lumtar.core.counters import Flag
from lumtar.core.ledger import Ledger
from lumtar.core.speeds import NOT_CREDIBLE
from tests.core.examples import snapshot, status

START = 1_000_000
SLOT = np.array([0])


def ledger():
    made = Ledger()
    made.add(1)
    return made


def feed(made, percents, start=START, speed_mbps=1000):
    """Poll each minute with so many per cent of a gigabit inward; the observations."""
    total = 10_000
    seen = [made.observe(SLOT, snapshot(start, (total, 0)), status())]
    for number, percent in enumerate(percents, 1):
        total += round(percent / 100 * speed_mbps * 1e6 / 8 * 60)
        seen.append(made.observe(SLOT, snapshot(start + 60 * number, (total, 0)), status(high_speed=speed_mbps)))
    return seen


def test_rates_and_shares():
    seen = feed(ledger(), [25])[-1]
    assert seen.in_bps[0] == pytest.approx(250e6)
    assert seen.in_percent[0] == pytest.approx(25)
    assert seen.out_bps[0] == 0


def test_a_sold_speed_is_what_shares_are_of():
    made = ledger()
    made.state.in_override[0] = 500_000_000
    seen = feed(made, [25])[-1]
    assert seen.in_percent[0] == pytest.approx(50)
    assert seen.out_percent[0] == 0


def test_the_first_poll_has_no_rate():
    seen = feed(ledger(), [])[0]
    assert np.isnan(seen.in_bps[0])
    assert seen.speed_changed[0]
    assert not seen.state_changed[0]


def test_a_held_reading_keeps_its_baseline():
    made = ledger()
    feed(made, [10])
    stale = made.state.counters[0, 0]
    held = made.observe(SLOT, snapshot(START + 120, (stale, 0)), status())
    assert Flag(int(held.counted.flags[0])) & Flag.HELD
    assert not held.rated[0]
    after = made.observe(SLOT, snapshot(START + 180, (int(stale) + 120_000_000, 0)), status())
    assert after.counted.elapsed_ms[0] == 120_000
    assert after.in_bps[0] == pytest.approx(8_000_000)


def test_across_a_gap_there_is_volume_but_no_rate():
    made = ledger()
    feed(made, [10])
    seen = made.observe(SLOT, snapshot(START + 7200, (10**12, 0)), status())
    assert seen.counted.deltas[0, 0] > 0
    assert np.isnan(seen.in_bps[0])


def test_a_changed_state_is_noticed_once():
    made = ledger()
    feed(made, [10])
    changes = [
        made.observe(SLOT, snapshot(START + 120 + 60 * n, (0, 0)), status(oper=2)).state_changed[0] for n in (0, 1)
    ]
    assert changes == [True, False]


def test_a_changed_speed_is_noticed():
    made = ledger()
    feed(made, [10])
    seen = made.observe(SLOT, snapshot(START + 120, (0, 0)), status(high_speed=100, speed=100_000_000))
    assert seen.speed_changed[0]
    assert made.speeds(SLOT)[0][0] == 100_000_000


def test_growing_keeps_what_is_known():
    made = ledger()
    feed(made, [95])
    more = made.add(50)
    assert list(more) == list(range(1, 51))
    assert made.state.seen[0] and not made.state.seen[1:51].any()


def test_slots_of_what_is_gone_are_used_again():
    made = ledger()
    made.add(9)
    made.state.counters[3:6] = 7
    made.drop(np.array([3, 4, 5]))
    for _ in range(100):
        slots = made.add(3)
        assert sorted(slots) == [3, 4, 5] and not made.state.counters[slots].any()
        made.drop(slots)
    assert sorted(made.add(5)) == [3, 4, 5, 10, 11] and made.slots.size == 12


class TestASpeedThatCannotBe:
    """A loopback interface that states 10 Mb/s and carries 631."""

    def feed(self, made, percents, mbps):
        seen = feed(made, percents, speed_mbps=mbps)
        return seen[1:]

    def test_far_above_it_one_reading_is_enough(self):
        made = ledger()
        told = made.observe(SLOT, snapshot(START, (0, 0)), status(high_speed=10, speed=10_000_000))
        assert told.in_speed[0] == 10_000_000
        octets = round(631e6 / 8 * 60)
        seen = made.observe(SLOT, snapshot(START + 60, (octets, 0)), status(high_speed=10, speed=10_000_000))
        assert seen.in_bps[0] == pytest.approx(631e6)
        assert np.isnan(seen.in_percent[0]) and np.isnan(seen.out_percent[0]) and seen.speed_changed[0]
        assert made.speeds(SLOT)[0][0] == 0

    def test_somewhat_above_it_takes_three_in_a_row(self):
        made = ledger()
        seen = self.feed(made, [130, 130, 90, 130, 130, 130, 20], 100)
        assert [bool(np.isnan(each.in_percent[0])) for each in seen] == [False] * 5 + [True, True]

    def test_a_device_that_renews_its_counters_seldom_is_believed(self):
        """Every 90 s while it is polled every 60 s: one and a half times, then half of what it carries at line speed."""
        made = ledger()
        seen = self.feed(made, [150, 75, 75] * 20, 1000)
        assert not any(np.isnan(each.in_percent[0]) for each in seen)

    def test_another_stated_speed_is_believed_again(self):
        made = ledger()
        self.feed(made, [300], 100)
        assert made.state.excess[0] == NOT_CREDIBLE
        seen = made.observe(SLOT, snapshot(START + 300, (10**12, 0)), status(high_speed=10_000))
        assert made.state.excess[0] == 0 and made.speeds(SLOT)[0][0] == 10**10 and seen.speed_changed[0]

    def test_a_speed_that_somebody_set_is_used(self):
        made = ledger()
        made.state.in_override[0] = 10**9
        seen = self.feed(made, [300], 100)[-1]
        assert seen.in_percent[0] == pytest.approx(30) and np.isnan(seen.out_percent[0])
