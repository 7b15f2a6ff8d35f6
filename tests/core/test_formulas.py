"""Formulas of measures."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.measures import MEASURES, Counts, known_measure, measure_of
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Frame, Level, Memory, Rule, RuleSet, evaluate

SPEED = np.array([1e9, 1e9])
COLUMNS = {
    "in_octets": np.array([750_000_000, 0]),
    "out_octets": np.array([75_000_000, 0]),
    "in_packets": np.array([1_000_000, 0]),
    "out_packets": np.array([100_000, 0]),
    "in_errors": np.array([11, 0]),
    "elapsed_ms": np.array([60_000, 60_000]),
}
COUNTS = Counts.of(COLUMNS, SPEED, SPEED, interface=np.arange(2), seconds=60)


@pytest.mark.parametrize(
    ("text", "value", "unit"),
    [
        ("= in + out", 110e6, "bit/s"),
        ("=in-out", 90e6, "bit/s"),
        ("= (in + out) / 2", 55e6, "bit/s"),
        ("= in / out", 10.0, ""),
        ("= 100 * in / (in + out)", 100 / 1.1, ""),
        ("= max(in, out)", 100e6, "bit/s"),
        ("= min(in, 10M)", 10e6, "bit/s"),
        ("= abs(out - in)", 90e6, "bit/s"),
        ("= -in", -100e6, "bit/s"),
        ("= 2 * 3 + load", 16.0, "%"),
        ("= in * 1.5k", 150e9, "bit/s"),
        ("= volume / packet_size", 1_100_000, ""),
        ("= in * in / out", 1e9, "bit/s"),
        ("= volume / in", 8.25, "octets/bit/s"),
        ("= 1 / in", 1e-8, "1/bit/s"),
        ("= in - in * 0", 100e6, "bit/s"),
    ],
)
def test_a_formula_is_computed_with_its_unit(text, value, unit):
    measure = measure_of(text)
    assert measure.of(COUNTS)[0] == pytest.approx(value) and measure.unit == unit
    assert measure.subject == "interface" and set(measure.needs) <= set(COLUMNS) | {
        "bridged_in_octets",
        "bridged_out_octets",
    }


def test_dividing_by_zero_gives_no_value():
    assert np.isnan(measure_of("= in / out").of(COUNTS)[1]) and np.isnan(measure_of("= in / 0").of(COUNTS)[0])


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("= in + load", "cannot be added"),
        ("= max(in, errors)", "cannot be compared"),
        ("= in > 5", "not understood"),
        ('= in + "five"', "text cannot be computed"),
        ('= "in', "text cannot be computed"),
        ("= 1 + 1", "at least one measure"),
        ("= ", "ends where"),
        ("= in +", "ends where"),
        ("= (in", "no closing"),
        ("= in out", "operator should stand"),
        ("= in * )", "should stand before"),
        ("= beauty", "is no measure"),
        ("= in + round_trip", "cannot be added"),
        ("= in / round_trip", "different things"),
        ("= max(in)", "two values"),
        ("= max in", "parenthesis should follow"),
        ("= " + "(" * 50 + "in", "levels deep"),
        ("= in" + " + in" * 100, "at most 200"),
        ("= __import__(1)", "is no measure"),
        ("= in ** 9", "should stand before"),
        ("beauty", "no measure beauty"),
    ],
)
def test_what_makes_no_sense_says_why(text, words):
    with pytest.raises(Refusal, match=words):
        measure_of(text)
    assert known_measure(text) is None


def test_blanks_do_not_matter_and_rules_take_formulas():
    assert measure_of("=in+out") is not None and measure_of("=  in   +  out").name == "= in + out"
    rule = Rule(1, "= in / out", (Level(4, 5, 4),))
    rules = RuleSet((rule,))
    values = {name: measure_of(name).of(COUNTS) for name in rules.measures}
    frame = Frame.of_instant(np.arange(2), np.full(2, 1.8e9), np.full(2, 60.0), values)
    events, _ = evaluate(rules, frame, Memory.blank(rules, 2))
    assert events.slot.tolist() == [0] and events.value.tolist() == [10.0]


@given(st.text(alphabet='inoutlad+-*/(),. 0123456789kM"mxbs_', max_size=40))
def test_whatever_is_written_is_computed_or_refused(text):
    try:
        measure = measure_of(f"= {text}")
        # It may name a measure of links or of groups, whose frames have other columns.
        if measure.subject == "interface":
            assert np.broadcast_to(measure.of(COUNTS), 2).shape == (2,)
    except Refusal as error:
        assert error.sentence
    assert "load" in MEASURES
