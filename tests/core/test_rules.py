"""Rules over frames of values: what a person would say, in one pass over many subjects."""

from dataclasses import replace
from datetime import UTC, datetime

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lumtar.core.alarms.severity import Severity
from lumtar.core.calling import Hours
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Direction, Frame, Hold, Level, Memory, Pairs, Rule, RuleSet, evaluate
from lumtar.core.rules.evaluation import LAPSE_S
from lumtar.core.rules.rule import ALWAYS
from lumtar.core.rules.statistics import STATISTICS, Statistic

MINOR, MAJOR, CRITICAL = Severity.MINOR, Severity.MAJOR, Severity.CRITICAL
START = 1_795_000_000.0


def rule(*levels, key=1, **more):
    told = levels or ((MAJOR, 90, 80),)
    return Rule(key, "load", tuple(Level(*each) for each in told), **more)


def frame(values, at, interval=60.0, measure="load"):
    values = np.atleast_2d(np.array(values, float))
    times, subjects = values.shape
    moments = np.broadcast_to(np.array(at, float).reshape(times, -1), values.shape)
    return Frame(np.arange(subjects), moments, np.full(subjects, interval), {measure: values})


def history(rules, values, every=60.0, measure="load"):
    """The severity of the first subject's alarm by each rule after each value, as rows of rules; None is missing."""
    told = RuleSet(tuple(rules))
    memory = Memory.blank(told, 1)
    found = []
    for number, value in enumerate(values):
        given = frame([[np.nan if value is None else value]], START + every * number, measure=measure)
        _, memory = evaluate(told, given, memory)
        found.append(memory.severity[:, 0].tolist())
    return [list(each) for each in zip(*found, strict=True)]


class TestOneLevel:
    def test_raised_by_three_in_a_row_and_cleared_below_the_clearing_limit(self):
        told = rule(hold=Hold(times=3, of=3))
        assert history([told], [95, 96, 97, 85, 85, 79, 99]) == [[0, 0, 4, 4, 4, 0, 0]]

    def test_a_break_starts_the_run_anew_and_a_missing_value_does_not(self):
        told = rule(hold=Hold(times=3, of=3))
        assert history([told], [95, 96, 50, 95, 96, None, 97]) == [[0, 0, 0, 0, 0, 0, 4]]

    def test_exactly_at_a_limit_nothing_happens(self):
        assert history([rule()], [90, 90.01, 80, 79.99]) == [[0, 4, 4, 0]]

    def test_two_of_the_last_four(self):
        told = rule(hold=Hold(times=2, of=4))
        assert history([told], [95, 10, 10, 95, 10, 10, 10, 95]) == [[0, 0, 0, 4, 0, 0, 0, 0]]

    def test_for_ten_minutes(self):
        told = rule(hold=Hold(seconds=600))
        assert history([told], [95] * 10 + [95, 95, 70]) == [[0] * 10 + [4, 4, 0]]
        assert history([told], [95] * 9 + [85] + [95] * 10) == [[0] * 20]

    def test_below_a_limit(self):
        told = rule((MAJOR, -20, -18), direction=Direction.BELOW)
        assert history([told], [-10, -21, -19, -17]) == [[0, 4, 4, 0]]


class TestLevels:
    told = rule((MINOR, 70, 65), (MAJOR, 80, 75), (CRITICAL, 95, 90))

    def test_one_alarm_moves_between_them(self):
        assert history([self.told], [71, 96, 92, 89, 74, 66, 64]) == [[3, 5, 5, 4, 3, 3, 0]]

    def test_the_events_say_what_happened(self):
        told = RuleSet((self.told,))
        events, _ = evaluate(
            told, frame([[71, 10], [96, 99], [60, 99]], [START, START + 60, START + 120]), Memory.blank(told, 2)
        )
        assert list(zip(events.slot, events.was, events.severity, events.value, events.instant, strict=True)) == [
            (0, 0, 3, 71, 0), (0, 3, 5, 96, 1), (1, 0, 5, 99, 1), (0, 5, 0, 60, 2),
        ]  # fmt: skip
        assert list(events.at) == [START, START + 60, START + 60, START + 120]


def test_a_long_silence_makes_counting_start_anew():
    told = rule(hold=Hold(seconds=600))
    memory = Memory.blank(RuleSet((told,)), 1)
    for at in (0, 60, 60 + LAPSE_S + 1, 120 + LAPSE_S, 700):
        events, memory = evaluate(RuleSet((told,)), frame([[95]], START + at), memory)
        assert not len(events)
    # A short one does not.
    events, memory = evaluate(RuleSet((told,)), frame([[95]], START + 60 + LAPSE_S + 601), memory)
    assert len(events) == 1


def test_what_is_not_in_a_rules_scope_is_not_watched_and_what_leaves_it_is_cleared():
    told = RuleSet((rule(),))
    memory = Memory.blank(told, 2)
    memory.applies[0, 1] = False
    events, memory = evaluate(told, frame([[95, 95]], START), memory)
    assert events.slot.tolist() == [0]
    memory.applies[0, 0] = False
    events, memory = evaluate(told, frame([[95, 95]], START + 60), memory)
    assert (events.slot.tolist(), events.severity.tolist()) == ([0], [0])


def test_rules_of_several_measures_and_kinds_go_side_by_side():
    rules = [
        rule(),
        rule(key=2, hold=Hold(times=2, of=3)),
        Rule(3, "errors", (Level(MINOR, 5, 5),)),
        rule((MINOR, 50, 50), key=4),
    ]
    told = RuleSet(tuple(rules))
    given = replace(
        frame([[95, 60, 10]], START),
        values={"load": np.array([[95.0, 60, 10]]), "errors": np.array([[0.0, 9, np.nan]])},
    )
    events, _ = evaluate(told, given, Memory.blank(told, 3))
    assert sorted(zip(events.rule.tolist(), events.slot.tolist(), strict=True)) == [(0, 0), (2, 1), (3, 0), (3, 1)]


class TestChangedRules:
    def test_a_rule_that_stays_keeps_what_it_counted_beside_new_ones(self):
        one, other = rule(hold=Hold(times=3, of=3)), rule((MINOR, 50, 40), (MAJOR, 60, 50), key=2)
        first = RuleSet((one,))
        memory = Memory.blank(first, 1)
        for at in (0, 60):
            _, memory = evaluate(first, frame([[95]], START + at), memory)
        both = RuleSet((other, one))
        events, memory = evaluate(both, frame([[95]], START + 120), memory.followed_by(both))
        assert sorted(zip(events.rule.tolist(), events.severity.tolist(), strict=True)) == [(0, 4), (1, 4)]

    def test_a_changed_one_keeps_its_alarm_and_counts_anew(self):
        before, after = rule(hold=Hold(times=2, of=2)), rule((MAJOR, 97, 96), revision=2, hold=Hold(times=2, of=2))
        memory = Memory.blank(RuleSet((before,)), 2)
        _, memory = evaluate(RuleSet((before,)), frame([[95, 10]], START), memory)
        _, memory = evaluate(RuleSet((before,)), frame([[95, 98]], START + 60), memory)
        told = RuleSet((after,))
        memory = memory.followed_by(told)
        assert memory.severity.tolist() == [[4, 0]]
        events, memory = evaluate(told, frame([[95, 98]], START + 120), memory)
        assert list(zip(events.slot, events.severity, strict=True)) == [(0, 0)]
        events, memory = evaluate(told, frame([[95, 98]], START + 180), memory)
        assert list(zip(events.slot, events.severity, strict=True)) == [(1, 4)]

    def test_one_that_went_and_came_back_knows_nothing(self):
        told, nothing = RuleSet((rule(),)), RuleSet(())
        _, memory = evaluate(told, frame([[95]], START), Memory.blank(told, 1))
        memory = memory.followed_by(nothing).followed_by(told)
        events, _ = evaluate(told, frame([[95]], START + 60), memory)
        assert events.severity.tolist() == [4]

    def test_switched_off_and_on_between_two_looks_its_old_alarms_are_gone(self):
        told, again = RuleSet((rule(),)), RuleSet((rule(armed=2, revision=2),))
        _, memory = evaluate(told, frame([[95]], START), Memory.blank(told, 1))
        events, _ = evaluate(again, frame([[95]], START + 60), memory.followed_by(again))
        assert events.severity.tolist() == [4]


def test_a_further_statistic_is_registered_and_nothing_else(monkeypatch):
    """A toy: twice the value."""
    monkeypatch.setitem(STATISTICS, "twice", Statistic("twice", "twice each value", lambda values: 2 * values))
    assert history([rule(statistic="twice")], [44, 46, 39]) == [[0, 4, 0]]


def test_slots_that_are_given_to_others_remember_nothing():
    told = RuleSet((rule(hold=Hold(times=2, of=2)),))
    _, memory = evaluate(told, frame([[95, 95]], START), Memory.blank(told, 2))
    memory.forget(np.array([0]))
    events, _ = evaluate(told, frame([[95, 95]], START + 60), memory)
    assert events.slot.tolist() == [1]


LEVELS = st.lists(st.integers(1, 5), min_size=1, max_size=3, unique=True).map(sorted)
HOLDS = st.one_of(
    st.integers(1, 4).map(lambda n: Hold(times=n, of=n)),
    st.tuples(st.integers(1, 3), st.integers(1, 3)).map(lambda each: Hold(times=each[0], of=each[0] + each[1])),
    st.sampled_from([60, 90, 300]).map(lambda s: Hold(seconds=s)),
)


STATISTIC = st.one_of(
    st.just(("value", 0)),
    st.tuples(
        st.sampled_from(["mean", "maximum", "minimum", "percentile95", "change", "rate", "missing"]),
        st.sampled_from([60, 120, 200, 600]),
    ),
)


SOON = Hours.of("{:%H:%M}-{:%H:%M}".format(*(datetime.fromtimestamp(START + each, UTC) for each in (180, 900))))
"""Some minutes after the start."""


def level_of(direction, severity, limit, slack):
    """A level whose limit is the further from the middle the larger a number is."""
    match direction:
        case Direction.BELOW:
            return Level(severity, 100 - limit, 100 - limit + slack)
        case Direction.OUTSIDE:
            return Level(
                severity, 50 + limit / 2, 50 + limit / 2 - slack / 2, 50 - limit / 2, 50 - limit / 2 + slack / 2
            )
        case Direction.EQUAL | Direction.CHANGED:
            return Level(severity, limit, limit)
    return Level(severity, limit, limit - slack)


@st.composite
def rules_and_values(draw):
    rules = []
    for key in range(draw(st.integers(1, 4))):
        severities, direction = draw(LEVELS), draw(st.sampled_from(Direction))
        limits = sorted(
            draw(
                st.lists(
                    st.one_of(st.just(20), st.just(80), st.integers(10, 90)),
                    min_size=len(severities),
                    max_size=len(severities),
                    unique=True,
                )
            )
        )
        slack = draw(st.integers(0, 9))
        levels = tuple(
            level_of(direction, Severity(severity), limit, slack)
            for severity, limit in zip(severities, limits, strict=True)
        )
        (statistic, window), hours = draw(STATISTIC), draw(st.sampled_from([ALWAYS, ALWAYS, SOON]))
        hold = draw(HOLDS)
        if direction.is_state:
            statistic, window = "value", 0
        if direction is Direction.CHANGED:
            hold, hours = Hold(times=hold.times, of=hold.times), ALWAYS
        rules.append(Rule(key, "load", levels, hold, direction, statistic, window_s=window, hours=hours))
    instants, subjects = draw(st.integers(1, 14)), draw(st.integers(1, 3))
    values = [
        [
            draw(st.one_of(st.just(np.nan), st.sampled_from([20.0, 50.0, 80.0]), st.integers(0, 100).map(float)))
            for _ in range(subjects)
        ]
        for _ in range(instants)
    ]
    steps = draw(st.lists(st.sampled_from([30, 60, 61, 400, 2000]), min_size=instants, max_size=instants))
    return RuleSet(tuple(rules)), np.array(values), START + np.cumsum(steps)


def compared_plainly(statistic, window_s, past, interval=60.0):
    """A statistic of (second, value) pairs, the newest last."""
    now, newest = past[-1]
    if statistic == "value":
        return newest
    inside = []
    for place, (second, value) in enumerate(past):
        if now - second < window_s:
            span = interval if place == 0 else min(second - past[place - 1][0], 2.5 * interval)
            inside.append((second, value, span))
    known = [each for each in inside if not np.isnan(each[1])]
    if statistic == "missing":
        enough = sum(span for _, _, span in inside) >= 0.8 * window_s
        return 100 * (len(inside) - len(known)) / len(inside) if enough else np.nan
    if sum(span for _, _, span in known) < 0.8 * window_s:
        return np.nan
    values, time = [value for _, value, _ in known], known[-1][0] - known[0][0]
    return {
        "mean": lambda: sum(value * span for _, value, span in known) / sum(span for _, _, span in known),
        "maximum": lambda: max(values),
        "minimum": lambda: min(values),
        "percentile95": lambda: sorted(values)[int(np.ceil(0.95 * len(values))) - 1],
        "change": lambda: values[-1] - values[0],
        "rate": lambda: 3600 * (values[-1] - values[0]) / time if time else np.nan,
    }[statistic]()


def beyond_plainly(direction, level, value):
    """Whether a value is beyond a limit, and whether it is not yet back."""
    match direction:
        case Direction.ABOVE:
            return value > level.limit, value >= level.clear
        case Direction.BELOW:
            return value < level.limit, value <= level.clear
        case Direction.OUTSIDE:
            return not level.low <= value <= level.limit, not level.low_clear < value < level.clear
    return value == level.limit, value == level.limit


def said_plainly(rules, values, at):
    """The same rules as a person would say them: one subject, one rule, one value at a time."""
    found = []
    for row, each in enumerate(rules.rules):
        for slot in range(values.shape[1]):
            severity, last = 0, None
            recent: list[list[bool]] = [[] for _ in each.levels]
            since: list[float | None] = [None] * len(each.levels)
            was_other = [False] * len(each.levels)
            for instant in range(len(values)):
                past = [(int(at[n]), values[n, slot]) for n in range(instant + 1)]
                value = compared_plainly(each.statistic, each.window_s, past)
                if np.isnan(value):
                    continue
                now = float(int(at[instant]))
                if last is not None and at[instant] - last > LAPSE_S:
                    recent, since = [[] for _ in each.levels], [None] * len(each.levels)
                last = now
                worst = 0
                holds = each.hours.includes(datetime.fromtimestamp(at[instant], UTC))
                for n, level in enumerate(each.levels):
                    exceeds, lingers = beyond_plainly(each.direction, level, value)
                    was_other[n] |= value != level.limit
                    exceeds = exceeds and holds and (each.direction is not Direction.CHANGED or was_other[n])
                    recent[n].append(exceeds)
                    since[n] = (since[n] if since[n] is not None else now) if exceeds else None
                    if each.hold.seconds:
                        due = exceeds and now - since[n] >= each.hold.seconds
                    else:
                        due = sum(recent[n][-each.hold.of :]) >= each.hold.times
                    stays = severity >= level.severity and lingers and holds
                    if (due and holds) or stays:
                        worst = int(level.severity)
                if worst != severity:
                    found.append((instant, row, slot, severity, worst))
                severity = worst
    return sorted(found)


def told_of(events, offset=0):
    return [
        (int(i) + offset, int(r), int(s), int(w), int(n))
        for i, r, s, w, n in zip(events.instant, events.rule, events.slot, events.was, events.severity, strict=True)
    ]


@settings(max_examples=200, deadline=None)
@given(rules_and_values())
def test_it_agrees_with_what_a_person_would_say(case):
    rules, values, at = case
    events, _ = evaluate(rules, frame(values, at), Memory.blank(rules, values.shape[1]))
    assert sorted(told_of(events)) == said_plainly(rules, values, at)


@settings(max_examples=100, deadline=None)
@given(rules_and_values(), st.data())
def test_in_any_chunks_and_across_restarts_it_comes_to_the_same(case, data):
    rules, values, at = case
    size = values.shape[1]
    whole, _ = evaluate(rules, frame(values, at), Memory.blank(rules, size))
    memory = Memory.blank(rules, size)
    memory.subject[:] = 700 + np.arange(size)
    found, kept, instant = [], [], 0
    while instant < len(values):
        end = data.draw(st.integers(instant + 1, len(values)))
        events, memory = evaluate(rules, frame(values[instant:end], at[instant:end]), memory)
        found += told_of(events, instant)
        kept.append(memory.take_changes())
        if data.draw(st.booleans()):
            # The collector starts again: what was kept comes back, with the alarms and the times of the last values.
            again = Memory.blank(rules, size)
            again.subject[:] = memory.subject
            again.severity[:], again.known[:] = memory.severity, memory.known
            pairs = Pairs.joined(kept).newest()
            kept = [pairs]
            again.recall(frame(values[:end], at[:end]))
            again.bring_back(pairs, {int(subject): slot for slot, subject in enumerate(again.subject)})
            memory = again
        instant = end
    assert sorted(found) == sorted(told_of(whole))


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: rule((MAJOR, 90, 95)), "clearing limit"),
        (lambda: rule((MAJOR, 90, 80), (MINOR, 95, 80)), "rising order"),
        (lambda: rule((MINOR, 90, 80), (MAJOR, 80, 80)), "worse severity"),
        (lambda: rule((MINOR, 70, 65), (MAJOR, 80, 60)), "order"),
        (lambda: rule((Severity.CLEARED, 90, 80)), "severity"),
        (lambda: rule((MAJOR, float("inf"), 80)), "numbers"),
        (lambda: Rule(1, "load", ()), "one to five"),
        (lambda: Rule(1, "beauty", (Level(MAJOR, 1, 1),)), "no measure"),
        (lambda: rule(statistic="mood"), "no statistic"),
        (lambda: Hold(times=0, of=0), "between 1 and 1,000"),
        (lambda: Hold(times=3, of=2), "at most the last"),
        (lambda: Hold(times=3, of=33), "at most the last"),
        (lambda: Hold(seconds=-1), "7 days"),
        (lambda: Hold(seconds=60, times=2, of=2), "not both"),
    ],
)
def test_what_makes_no_sense_is_refused_in_words(make, words):
    with pytest.raises(Refusal, match=words) as refused:
        make()
    assert refused.value.field
