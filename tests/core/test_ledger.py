"""The ledger: what follows from poll after poll."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.counters import Flag
from lumtar.core.ledger import Ledger
from lumtar.core.rules.threshold import Threshold, Watched, step
from tests.core.examples import snapshot, status

START = 1_000_000
SLOT = np.array([0])


def ledger(*rules):
    made = Ledger(list(rules))
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
    made = ledger(Threshold(90, 80, 1))
    feed(made, [95])
    more = made.add(50)
    assert list(more) == list(range(1, 51))
    assert made.raised[0, 0]
    assert made.state.seen[0] and not made.state.seen[1:51].any()


class TestRule:
    rule = Threshold(limit=90, clear=80, readings=3)

    def transitions(self, percents):
        seen = feed(ledger(self.rule), percents)[1:]
        return ["raised" if s.raised[0, 0] else "cleared" if s.cleared[0, 0] else "" for s in seen]

    def test_raised_by_three_in_a_row(self):
        assert self.transitions([95, 96, 97, 98]) == ["", "", "raised", ""]

    def test_a_break_starts_the_count_anew(self):
        assert self.transitions([95, 96, 50, 95, 96]) == [""] * 5

    def test_between_the_limits_nothing_happens(self):
        assert self.transitions([95, 96, 97, 85, 85, 79]) == ["", "", "raised", "", "", "cleared"]

    def test_raised_again_after_clearing(self):
        assert self.transitions([95, 95, 95, 10, 95, 95, 95]) == ["", "", "raised", "cleared", "", "", "raised"]


@given(
    values=st.lists(st.one_of(st.none(), st.floats(0, 120)), max_size=60),
    limit=st.floats(1, 100),
    clear_share=st.floats(0, 1),
    readings=st.integers(1, 5),
)
def test_the_rule_agrees_with_a_plain_one(values, limit, clear_share, readings):
    """Beside the vectorised rule runs one written as a person would say it."""
    rule = Threshold(limit, limit * clear_share, readings)
    memory = Watched(np.zeros(1, np.int16), np.zeros(1, bool))
    row, standing = 0, False
    for value in values:
        memory = step(rule, np.array([np.nan if value is None else value]), memory)
        if value is not None:
            row = row + 1 if value > limit else 0
            if row >= readings:
                standing = True
            if value < rule.clear:
                standing = False
        assert bool(memory.raised[0]) is standing


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ((0, 0, 3), "above 0"),
        ((90, 95, 3), "clearing limit"),
        ((90, -1, 3), "clearing limit"),
        ((90, 80, 0), "in a row"),
    ],
)
def test_limits_that_make_no_sense_are_refused_in_words(values, words):
    with pytest.raises(ValueError, match=words):
        Threshold(*values)
