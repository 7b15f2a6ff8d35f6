"""Normal ranges by the hour of the week."""

from datetime import UTC, datetime

import numpy as np
import pytest

from lumtar.core.alarms.severity import Severity
from lumtar.core.rules import Baselines, Direction, Frame, Hold, Level, Memory, Reference, Rule, RuleSet, evaluate
from lumtar.core.rules.baseline import SLOT_S, baselines, grid, hour_of_week, tolerance

END = datetime(2026, 11, 25, 15, tzinfo=UTC).timestamp()
WEEK_S = 7 * 86_400


def usual(at):
    """A day that is busy from 8 to 18 o'clock, and a weekend that is not."""
    hours = hour_of_week(at)
    return np.where((hours % 24 >= 8) & (hours % 24 < 18) & (hours < 120), 60.0, 10.0)


def history(weeks, size=2, growth=1.0, noise=0.05, seed=1):
    """Five-minute means of some weeks until END: (t, n) times and values."""
    dice = np.random.default_rng(seed)
    at = np.arange(END - weeks * WEEK_S + SLOT_S / 2, END, SLOT_S)
    level = growth ** ((at - END) / WEEK_S)
    values = (usual(at) * level)[:, None] * (1 + noise * dice.standard_normal((len(at), size)))
    return np.repeat(at[:, None], size, axis=1), values


def learned(at, values, weeks=8, reference=Reference.LEARNED, **more):
    return baselines(grid(at, values, END, weeks, **more), END, reference)


def normal(ranges, when, slot=0):
    median, scale = ranges.at(np.array([slot]), np.array([when]))
    return float(median[0]), float(scale[0])


TUESDAY_NOON = datetime(2026, 12, 1, 12, 30, tzinfo=UTC).timestamp()
SUNDAY_NOON = datetime(2026, 11, 29, 12, 30, tzinfo=UTC).timestamp()


def test_it_is_that_of_the_hour_of_the_week():
    ranges = learned(*history(8))
    assert normal(ranges, TUESDAY_NOON)[0] == pytest.approx(60, rel=0.02)
    assert normal(ranges, SUNDAY_NOON)[0] == pytest.approx(10, rel=0.02)
    assert normal(ranges, TUESDAY_NOON)[1] == pytest.approx(3, rel=0.2), "five per cent of noise"
    assert ranges.weeks.tolist() == [8, 8]


def test_between_two_hours_it_goes_over_steadily():
    ranges = learned(*history(8, noise=0.001))
    eight = datetime(2026, 12, 1, 8, 0, tzinfo=UTC).timestamp()
    assert normal(ranges, eight)[0] == pytest.approx(35, rel=0.02)


def test_a_tenth_of_exceptions_hardly_moves_it():
    at, values = history(8)
    values[np.random.default_rng(2).random(len(at)) < 0.1] *= 8
    assert normal(learned(at, values), TUESDAY_NOON)[0] == pytest.approx(60, rel=0.06)


def test_growth_is_followed():
    at, values = history(8, growth=1.04)
    median, scale = normal(learned(at, values), TUESDAY_NOON)
    assert median == pytest.approx(60, rel=0.06) and scale < 5


def test_one_week_is_too_little_and_days_can_be_left_out():
    at, values = history(8)
    assert np.isnan(learned(*history(1)).median).all()
    old = (END - 8 * WEEK_S, END - WEEK_S)
    assert np.isnan(learned(at, values, without=[old]).median).all()
    values[at > END - 86_400] = 1000.0
    with_it = learned(at, values, without=[(END - 86_400, END)])
    assert normal(with_it, TUESDAY_NOON)[0] == pytest.approx(60, rel=0.02)


def test_what_is_silent_is_not_known_and_what_idles_is_not_divided_by_zero():
    at, values = history(4)
    values[:, 0], values[:, 1] = np.nan, 0.0
    ranges = learned(at, values)
    assert np.isnan(ranges.median[0]).all()
    score = ranges.score(np.array([0, 1]), np.array([TUESDAY_NOON] * 2), np.array([5.0, 5.0]))
    assert np.isnan(score).all()


@pytest.mark.parametrize(("reference", "back"), [(Reference.YESTERDAY, 86_400), (Reference.LAST_WEEK, WEEK_S)])
def test_as_it_was_before(reference, back):
    at, values = history(2, noise=0.0)
    values *= 1 + (at - END) / WEEK_S / 10
    ranges = learned(at, values, weeks=1, reference=reference)
    soon = END + 3 * 3600 + 1800
    then = usual(np.array([soon - back]))[0] * (1 + (soon - back - END) / WEEK_S / 10)
    assert normal(ranges, soon)[0] == pytest.approx(then, rel=0.01)
    assert ranges.score(np.array([0]), np.array([soon]), np.array([1.5 * then]))[0] == pytest.approx(50, rel=0.05)


def test_a_rule_looks_at_how_far_from_normal_a_value_is():
    ranges = learned(*history(8))
    rule = Rule(
        1,
        "load",
        (Level(Severity.MAJOR, 4, 2, -4, -2),),
        Hold(times=2, of=2),
        Direction.OUTSIDE,
        reference=Reference.LEARNED,
    )
    rules = RuleSet((rule,))
    memory = Memory.blank(rules, 2)
    memory.baselines["load", Reference.LEARNED] = ranges
    values = np.array([[60.0, 60.0], [95.0, 60.0], [95.0, 20.0], [60.0, 20.0], [60.0, 60.0]])
    at = TUESDAY_NOON + 60 * np.arange(5)[:, None] + np.zeros((1, 2))
    frame = Frame(np.arange(2), at, np.full(2, 60.0), {"load": values})
    events, _ = evaluate(rules, frame, memory)
    assert list(zip(events.instant.tolist(), events.slot.tolist(), events.severity.tolist(), strict=True)) == [
        (2, 0, 4), (3, 0, 0), (3, 1, 4), (4, 1, 0),
    ]  # fmt: skip
    nothing, _ = evaluate(rules, frame, Memory.blank(rules, 2))
    assert not len(nothing), "while nothing is learned nothing is raised"


def test_a_memory_that_grows_keeps_them_and_one_that_forgets_does_not():
    rules = RuleSet((Rule(1, "load", (Level(Severity.MAJOR, 4, 2),), reference=Reference.LEARNED),))
    memory = Memory.blank(rules, 2)
    memory.baselines["load", Reference.LEARNED] = learned(*history(8))
    memory.grow(5)
    grown = memory.baselines["load", Reference.LEARNED]
    assert len(grown.median) == 5 and grown.weeks.tolist() == [8, 8, 0, 0, 0]
    memory.forget(np.array([0]))
    assert np.isnan(grown.median[0]).all() and not np.isnan(grown.median[1]).any()


def test_the_tolerance_follows_from_what_there_was():
    at, values = history(4, size=3, noise=0.05)
    ranges = learned(at, values, weeks=4)
    scores = np.stack([ranges.score(np.arange(3), row, value) for row, value in zip(at, values, strict=True)])
    rare, often = tolerance(at, scores, 3, 0.25), tolerance(at, scores, 1, 20)
    assert 3 <= often <= rare
    scores[100:110, 0] = 40.0
    assert tolerance(at, scores, 3, 0.01) == pytest.approx(44.0)
    assert tolerance(at, np.full_like(scores, np.nan), 1, 1) is None and tolerance(at[:0], scores[:0], 1, 1) is None


def test_nothing_is_known_at_first():
    assert np.isnan(Baselines.blank(3).score(np.arange(3), np.full(3, END), np.ones(3))).all()
