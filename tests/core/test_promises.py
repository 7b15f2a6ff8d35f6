"""Promises, and the budgets that follow from them."""

from dataclasses import fields

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.calling.hours import Hours
from lumtar.core.measures.paths import Paths
from lumtar.core.paths.promises import Budget, Promise
from lumtar.core.refusal import Refusal


def paths(**more):
    number = len(next(iter(more.values())))
    blank = {each.name: np.full(number, np.nan) for each in fields(Paths)}
    counts = {name: np.zeros(number, np.int32) for name in ("lost", "wrong", "longest_burst")}
    return Paths(
        **(blank | counts | {"sent": np.full(number, 60, np.int32)} | {k: np.array(v) for k, v in more.items()})
    )


def test_a_minute_misses_a_target_that_it_exceeds():
    promise = Promise({"path_delay_95": 60, "path_loss": 1}, 99)
    told = promise.missed(
        paths(p95=[60_000.0, 60_001.0, 10.0, np.nan, np.nan], lost=[0, 0, 1, 60, 0], sent=[60, 60, 60, 60, 0])
    )
    assert told["path_delay_95"].tolist() == [False, True, False, True, False], "without any answer nothing is kept"
    assert told["path_loss"].tolist() == [False, False, True, True, False]


def test_of_an_opinion_score_less_is_worse():
    promise = Promise({"path_mos": 4}, 99)
    told = promise.missed(paths(mean=[20_000.0, 900_000.0], jitter=[0.0, 0.0]))
    assert told["path_mos"].tolist() == [False, True]


def test_hours_say_when_it_is_promised():
    monday = 1_795_392_000  # 2026-11-23 00:00 UTC
    promise = Promise({"path_loss": 1}, 99, Hours.of("Mon-Fri 08:00-18:00"))
    at = monday + np.array([7 * 3600 + 3599, 8 * 3600, 18 * 3600 - 1, 18 * 3600, 5 * 86400 + 9 * 3600])
    assert promise.holds_at(at.astype("f8")).tolist() == [False, True, True, False, False]
    assert Promise({"path_loss": 1}, 99).holds_at(at.astype("f8")).all()


@pytest.mark.parametrize(
    ("limits", "share", "words"),
    [
        ({}, 99, "at least one target"),
        ({"mood": 1}, 99, "There are targets for"),
        ({"path_loss": -1}, 99, "from 0 on"),
        ({"path_loss": float("nan")}, 99, "from 0 on"),
        ({"path_loss": 1}, 100, "50 to 99.999"),
        ({"path_loss": 1}, 10, "50 to 99.999"),
    ],
)
def test_promises_that_make_no_sense(limits, share, words):
    with pytest.raises(Refusal, match=words):
        Promise(limits, share)


def test_a_budget_by_hand():
    # A month of 30 days at 99.9 % has 43.2 minutes; half of it is over, 20 of them are gone.
    budget = Budget(judged=21_600, missed=20, period=43_200, share=99.9, recent=10 / 4320)
    assert budget.allowed == pytest.approx(43.2) and budget.left == pytest.approx(23.2)
    assert budget.kept == pytest.approx(100 * (1 - 20 / 21_600))
    assert budget.forecast == pytest.approx(100 * (1 - (20 + 21_600 * 10 / 4320) / 43_200))


def test_a_budget_of_nothing():
    empty = Budget(0, 0, 43_200, 99, np.nan)
    assert np.isnan(empty.kept) and np.isnan(empty.forecast) and empty.left == pytest.approx(432)
    over = Budget(43_200, 432, 43_200, 99, np.nan)
    assert over.forecast == over.kept == pytest.approx(99) and over.left == pytest.approx(0)


@given(st.floats(1, 1e5), st.floats(0, 1), st.floats(0, 1), st.floats(50, 99.999), st.floats(0, 1))
def test_a_forecast_lies_between_what_was_and_what_is_coming(period, part, missed, share, recent):
    judged = period * part
    budget = Budget(judged, judged * missed, period, share, recent)
    if judged:
        low, high = sorted((100 * (1 - missed), 100 * (1 - recent)))
        assert low - 1e-6 <= budget.forecast <= high + 1e-6
