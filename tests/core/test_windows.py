"""The last values of subjects, and what statistics make of them: held to a list that a person would keep."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lumtar.core.alarms.severity import Severity
from lumtar.core.counters import GAP
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Frame, Level, Memory, Rule, RuleSet
from lumtar.core.rules.rule import LONGEST_WINDOW_S
from lumtar.core.rules.statistics import STATISTICS
from lumtar.core.rules.windows import MOST_VALUES, Ring

START = 1_795_000_000
SUBJECTS, DEPTH = 3, 7
MISSING = st.just(math.nan)
VALUES = st.one_of(MISSING, st.integers(-50, 50).map(float))
LEVELS = (Level(Severity.MAJOR, 50, 40),)

steps = st.lists(
    st.tuples(
        st.sets(st.integers(0, SUBJECTS - 1), min_size=1),
        st.sampled_from([1, 30, 60, 61, 400]),
        st.lists(VALUES, min_size=SUBJECTS, max_size=SUBJECTS),
    ),
    min_size=1,
    max_size=20,
)


def kept(history, slot, seconds, interval=60.0):
    """(value, age, span) of the values of a subject within a window, the newest first."""
    mine = history[slot][-DEPTH:]
    newest = mine[-1][0]
    found = []
    for place, (at, value) in enumerate(mine):
        if newest - at < seconds:
            before = mine[place - 1][0] if place else None
            # Of what has been pushed out the time is forgotten as well.
            span = interval if before is None else min(at - before, GAP * interval)
            found.append((value, newest - at, span))
    return found[::-1]


@settings(max_examples=150, deadline=None)
@given(steps, st.sampled_from([60, 120, 600, 5000]))
def test_a_ring_is_a_list_of_the_newest(polled, seconds):
    ring, at = Ring.blank(DEPTH, SUBJECTS), START
    history = {slot: [] for slot in range(SUBJECTS)}
    for slots, step, values in polled:
        at += step
        here = np.array(sorted(slots))
        ring.put(here, np.full(len(here), float(at)), np.array(values)[here])
        for slot in slots:
            history[slot].append((at, values[slot]))
    seen = np.array([slot for slot, past in history.items() if past])
    window = ring.window(seen, seconds, np.full(len(seen), 60.0))
    for column, slot in enumerate(seen.tolist()):
        inside = np.flatnonzero(window.is_inside[:, column])
        found = [
            (float(window.values[row, column]), float(window.ages[row, column]), float(window.spans[row, column]))
            for row in inside
        ]
        assert str(found) == str(
            [(value, float(age), float(span)) for value, age, span in kept(history, slot, seconds)]
        )
        outside = np.setdiff1d(np.arange(len(window.values)), inside)
        assert np.isnan(window.values[outside, column]).all() and (window.spans[outside, column] == 0).all()


@settings(max_examples=60, deadline=None)
@given(steps, st.integers(1, 12))
def test_resizing_loses_nothing_but_the_oldest(polled, depth):
    ring, at = Ring.blank(DEPTH, SUBJECTS), START
    for slots, step, values in polled:
        at += step
        here = np.array(sorted(slots))
        ring.put(here, np.full(len(here), float(at)), np.array(values)[here])
    everybody, interval = np.arange(SUBJECTS), np.full(SUBJECTS, 60.0)
    before = ring.window(everybody, 5000, interval)
    after = ring.resized(depth, SUBJECTS + 2).window(everybody, 5000, interval)
    rows = min(depth, DEPTH, len(before.values), len(after.values))
    np.testing.assert_array_equal(after.values[:rows], before.values[:rows])
    np.testing.assert_array_equal(after.is_inside[:rows], before.is_inside[:rows])


def window_of(*values, every=60, seconds=600):
    """A window of one subject, its values in the order of time."""
    ring = Ring.blank(20, 1)
    for place, value in enumerate(values):
        ring.put(np.array([0]), np.array([float(START + every * place)]), np.array([value]))
    return ring.window(np.array([0]), seconds, np.array([float(every)]))


@pytest.mark.parametrize(
    ("statistic", "values", "expected"),
    [
        ("mean", [10.0] * 5 + [20.0] * 5, 15.0),
        ("maximum", [10.0] * 9 + [20.0], 20.0),
        ("minimum", [10.0] * 9 + [20.0], 10.0),
        ("percentile95", [float(n) for n in range(1, 11)], 10.0),
        ("change", [float(n) for n in range(1, 11)], 9.0),
        ("rate", [float(n) for n in range(1, 11)], 60.0),
        ("missing", [1.0, math.nan] * 5, 50.0),
        ("mean", [10.0] * 5, math.nan),
        ("missing", [1.0, math.nan], math.nan),
        ("maximum", [math.nan] * 10, math.nan),
        ("minimum", [math.nan] * 10, math.nan),
    ],
)
def test_statistics_of_ten_minutes_of_minutes(statistic, values, expected):
    (found,) = STATISTICS[statistic].over(window_of(*values), 600)
    assert found == pytest.approx(expected, nan_ok=True)


def test_a_value_behind_a_gap_stands_for_no_longer_than_a_rate_may_span():
    ring = Ring.blank(10, 1)
    for at, value in ((0, 0.0), (60, 0.0), (4000, 100.0), (4060, 100.0)):
        ring.put(np.array([0]), np.array([float(START + at)]), np.array([value]))
    window = ring.window(np.array([0]), 5000, np.array([60.0]))
    assert window.spans[:4, 0].tolist() == [60.0, GAP * 60.0, 60.0, 60.0]


def test_a_blank_subject_has_nothing():
    ring = Ring.blank(5, 2)
    ring.put(np.array([0]), np.array([float(START)]), np.array([7.0]))
    window = ring.window(np.array([0, 1]), 60, np.array([60.0, 60.0]))
    assert window.is_inside[:, 0].tolist()[0] and not window.is_inside[:, 1].any()
    ring.forget(np.array([0]))
    assert not ring.window(np.array([0]), 60, np.array([60.0])).is_inside.any()


def test_rules_say_how_much_has_to_be_remembered():
    rules = RuleSet(
        (
            Rule(1, "load", LEVELS, statistic="mean", window_s=600),
            Rule(2, "load", LEVELS, statistic="maximum", window_s=3600),
            Rule(3, "in", LEVELS, statistic="mean", window_s=LONGEST_WINDOW_S),
            Rule(4, "out", LEVELS),
        )
    )
    assert rules.windows == {"load": 3600, "in": LONGEST_WINDOW_S}
    memory = Memory.blank(rules, 2)
    at = np.full((1, 2), float(START))
    values = {name: np.ones((1, 2)) for name in ("load", "in", "out")}
    memory.note_values(Frame(np.arange(2), at, np.full(2, 60.0), values), 0)
    assert {name: ring.depth for name, ring in memory.rings.items()} == {"load": 124, "in": MOST_VALUES}
    # One that is polled more often comes in: there is room for its values too.
    memory.note_values(Frame(np.arange(1), at[:, :1] + 10, np.full(1, 10.0), {"load": np.ones((1, 1))}), 0)
    assert memory.rings["load"].depth == MOST_VALUES
    fewer = memory.followed_by(RuleSet(rules.rules[2:]))
    assert set(fewer.rings) == {"in"}


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ({"statistic": "mean"}, "needs a window"),
        ({"statistic": "mean", "window_s": LONGEST_WINDOW_S + 1}, "24 hours"),
        ({"window_s": 60}, "has no window"),
    ],
)
def test_a_window_that_makes_no_sense_is_refused(more, words):
    with pytest.raises(Refusal, match=words):
        Rule(1, "load", LEVELS, **more)
