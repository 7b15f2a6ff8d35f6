"""Was it the network? What follows from findings."""

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.verdict import Answer, Finding, Side, spans, verdict

NETWORK, SERVICE, NEITHER = Side.NETWORK, Side.SERVICE, Side.NEITHER


def finding(side, weight, words="something was", what="load"):
    return Finding(what, side, words, 0.0, 60.0, weight)


@pytest.mark.parametrize(
    ("told", "usual", "answer", "sentence"),
    [
        ([], [], Answer.UNKNOWN, "It cannot be told: nothing was measured between the two in this time."),
        (
            [finding(NEITHER, 0)],
            [],
            Answer.UNKNOWN,
            "It cannot be told: nothing was measured between the two in this time.",
        ),
        (
            [finding(NEITHER, 0)],
            ["no link was full"],
            Answer.NOTHING,
            "Nothing on the way was out of the ordinary, as far as it was seen. No link was full.",
        ),
        ([finding(NETWORK, 0.8, "A was full")], ["x"], Answer.YES, "Yes: A was full."),
        (
            [
                finding(NETWORK, 0.6, "B took long", "delay"),
                finding(NETWORK, 0.8, "A was full"),
                finding(NETWORK, 0.7, "C was full"),
            ],
            [],
            Answer.YES,
            "Yes: A was full; B took long.",
        ),
        ([finding(SERVICE, 0.7, "S was slow")], ["the way was well"], Answer.NO, "No: S was slow. The way was well."),
        (
            [finding(SERVICE, 0.7, "S was slow"), finding(NETWORK, 0.6, "A was full")],
            [],
            Answer.BOTH,
            "Both: A was full; and S was slow.",
        ),
        ([finding(SERVICE, 0.8, "S was slow"), finding(NETWORK, 0.5, "A was full")], [], Answer.NO, "No: S was slow."),
        (
            [finding(SERVICE, 0.7, "S was slow"), finding(NETWORK, 0.9, "A was full")],
            [],
            Answer.YES,
            "Yes: A was full.",
        ),
    ],
)
def test_what_weighs_most_answers(told, usual, answer, sentence):
    found = verdict(told, usual)
    assert (found.answer, found.sentence) == (answer, sentence)
    assert [each.weight for each in found.reasons] == sorted(
        (each.weight for each in told if each.weight), reverse=True
    )


def test_what_was_so_in_a_row_is_one_span():
    at = [60.0, 120.0, 180.0, 240.0, 600.0]
    assert spans(at, [True, True, False, True, True], 60) == [(0, 120), (180, 240), (540, 600)]
    assert spans(at, [True, True, False, True, True], 60, pause=60) == [(0, 240), (540, 600)]
    assert spans(at, [False] * 5, 60) == []


@given(st.lists(st.booleans(), max_size=50), st.sampled_from([0.0, 60.0, 300.0]))
def test_spans_cover_all_that_was_so(was_so, pause):
    at = [60.0 * (n + 1) for n in range(len(was_so))]
    found = spans(at, was_so, 60, pause)
    for moment, so in zip(at, was_so, strict=True):
        inside = any(start < moment <= end for start, end in found)
        assert inside if so else (not inside or pause > 0)
    assert all(one[1] < other[0] for one, other in pairwise(found))
