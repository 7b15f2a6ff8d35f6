"""What a rule would have done, and the figures of it."""

from datetime import UTC, datetime

import numpy as np
import pytest

from lumtar.core.alarms.severity import Severity
from lumtar.core.rules import Frame, Hold, Level, Memory, Raised, Rule, RuleSet, figures, ready, rehearse
from lumtar.core.rules.windows import Ring

START = datetime(2026, 11, 23, 20, 0, tzinfo=UTC).timestamp()
LEVELS = (Level(Severity.MINOR, 70, 60), Level(Severity.MAJOR, 90, 80))


def frame(*lines, every=60.0):
    values = np.array(lines, float).T
    at = START + every * np.arange(1, len(values) + 1)[:, None] + np.zeros(values.shape)
    return Frame(np.arange(values.shape[1]), at, np.full(values.shape[1], every), {"load": values})


def test_an_alarm_has_its_worst_severity_and_its_times():
    alarms = rehearse(Rule(1, "load", LEVELS), frame([10, 75, 95, 85, 50, 10], [10, 10, 10, 10, 10, 99]), [31, 8])
    assert alarms == [
        Raised(31, START + 120, START + 300, 4, 75.0, 3),
        Raised(8, START + 360, None, 4, 99.0, 1),
    ]


def test_figures_count_alarms_nights_and_the_noisiest():
    hour = 3600.0
    alarms = [
        Raised(1, START, START + hour, 3, 71.0, 2),
        Raised(2, START + 3 * hour, START + 4 * hour, 4, 95.0, 3),
        Raised(1, START + 5 * hour, None, 3, 71.0, 1),
    ]
    made = figures(alarms, START, START + 24 * hour)
    assert (made.alarms, made.changes, made.a_day, made.at_night, made.active) == (3, 6, 3.0, 2, 1)
    assert made.longest_s == 19 * hour and made.by_severity == {4: 1, 3: 2}
    assert made.noisiest == [(1, 2, 20 * hour), (2, 1, hour)]


def test_nothing_comes_to_nothing():
    assert rehearse(Rule(1, "load", LEVELS), frame([1, 2, 3]), [5]) == []
    assert figures([], START, START + 3600).alarms == 0


@pytest.mark.parametrize("each", ready.READY, ids=lambda each: each.name)
def test_recommended_rules_make_sense_and_give_a_reason_for_each_level(each):
    assert each.rule().levels == each.levels and len(each.reasons) == len(each.levels) and each.why.endswith(".")


def test_a_mean_over_ten_minutes_does_not_mind_a_spike():
    rule = Rule(1, "load", LEVELS, statistic="mean", window_s=600)
    spike = [20.0] * 20 + [100.0] * 3 + [20.0] * 20
    assert rehearse(rule, frame(spike), [1]) == []
    lasting = [20.0] * 20 + [100.0] * 20 + [20.0] * 20
    (alarm,) = rehearse(rule, frame(lasting), [1])
    assert alarm.severity == 4 and alarm.raised_at > START + 24 * 60


def test_a_window_says_nothing_until_most_of_it_is_covered():
    rule = Rule(1, "load", (Level(Severity.MAJOR, 50, 50),), statistic="mean", window_s=600)
    (alarm,) = rehearse(rule, frame([100.0] * 12), [1])
    assert alarm.raised_at == START + 8 * 60


def test_holding_and_windows_go_together():
    rule = Rule(1, "load", (Level(Severity.MAJOR, 50, 50),), Hold(times=3, of=3), statistic="maximum", window_s=120)
    assert len(rehearse(rule, frame([10, 10, 99, 10, 10, 10, 10]), [1])) == 0
    assert len(rehearse(rule, frame([10, 10, 99, 99, 10, 10, 10]), [1])) == 1


def test_a_ring_keeps_the_newest_when_it_is_resized():
    ring = Ring.blank(5, 2)
    for number in range(1, 8):
        ring.put(np.array([0]), np.array([START + number]), np.array([float(number)]))
    other = ring.resized(3, 4)
    window = other.window(np.array([0]), 100, np.array([1.0]))
    assert window.values[:, 0].tolist() == [7, 6, 5]
    deeper = ring.resized(8, 2).window(np.array([0, 1]), 100, np.array([1.0, 1.0]))
    assert deeper.values[:5, 0].tolist() == [7, 6, 5, 4, 3] and np.isnan(deeper.values[:, 1]).all()


def test_a_clock_that_was_set_moves_what_is_remembered():
    rules = RuleSet((Rule(1, "load", LEVELS, statistic="mean", window_s=300),))
    memory = Memory.blank(rules, 1)
    memory.recall(frame([50.0] * 5))
    memory.move_times(7200.0)
    stamps = memory.rings["load"].stamps
    assert set(stamps[stamps > 0].tolist()) == {int(START + 7200 + 60 * n) for n in range(1, 6)}
