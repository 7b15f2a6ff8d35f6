"""Statistics of probes: examples from the RFCs, and plain references."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.paths.statistics import (
    FINE,
    QUANTILES,
    SHAPE,
    Answers,
    bursts_of,
    joined_quantiles,
    reordered,
    smoothed_jitter,
    summary,
)
from lumtar.core.paths.voice import mos, rating


def answers(*trips, arrival=None, duplicates=0):
    given = np.array(trips, "f8")
    places = np.cumsum(~np.isnan(given)) - 1 if arrival is None else np.array(arrival)
    nothing = np.full(len(given), np.nan)
    return Answers(given, np.where(np.isnan(given), -1, places), nothing, nothing, duplicates)


def test_an_interval_with_losses():
    lost = np.nan
    found = summary(answers(10, 14, lost, lost, 12, 12, lost, 20, duplicates=1))
    assert (found.sent, found.lost, found.duplicates, found.bursts, found.longest_burst) == (8, 3, 1, 2, 2)
    assert (found.least, found.longest, found.mean) == (10, 20, pytest.approx(13.6))
    assert found.quantiles[2] == 12
    # Neighbours that both came: 10-14 and 12-12.
    assert found.variation == pytest.approx(2.0)
    assert np.isnan(found.out)


def test_an_interval_without_any_answer():
    found = summary(answers(np.nan, np.nan), jitter=5.0)
    assert (found.sent, found.lost, found.longest_burst, found.jitter) == (2, 2, 2, 5.0)
    assert np.isnan([found.least, found.mean, *found.quantiles, found.variation]).all()
    assert summary(answers()).sent == 0


@pytest.mark.parametrize(
    ("arrival", "number"),
    [
        # RFC 4737 appendix A.1: packets 1 to 10, of which 4 came after 7, and 5 after 8: both are reordered.
        ([0, 1, 2, 6, 7, 3, 4, 5, 8, 9], 2),
        ([0, 1, 2], 0),
        # One that overtakes many makes all of these late.
        ([1, 2, 3, 0], 3),
        ([], 0),
    ],
)
def test_reordering(arrival, number):
    assert reordered(np.array(arrival, "i8")) == number


@given(st.lists(st.floats(0, 1e6), max_size=40), st.floats(0, 1e4))
def test_jitter_in_one_step_is_that_of_one_change_after_another(changes, before):
    expected = before
    for change in changes:
        expected += (change - expected) / 16
    assert smoothed_jitter(np.array(changes), before) == pytest.approx(expected, rel=1e-9, abs=1e-9)


@given(st.lists(st.booleans(), max_size=60))
def test_bursts_add_up_to_all_losses(lost):
    found = bursts_of(np.array(lost, bool))
    assert found.sum() == sum(lost)
    assert len(found) == sum(each and (place == 0 or not lost[place - 1]) for place, each in enumerate(lost))


@given(st.lists(st.lists(st.floats(1, 1e5), min_size=1, max_size=30), min_size=1, max_size=6))
def test_quantiles_of_several_intervals_lie_between_those_of_each(parts):
    rows = np.array([np.quantile(part, SHAPE) for part in parts])
    (found,) = joined_quantiles(rows, np.array([len(part) for part in parts]), np.array([0]))
    assert (np.diff(found) >= -1e-9).all()
    assert found[0] == rows[:, 0].min() and found[-1] == rows[:, -1].max()
    # Beside other groups, and one without any answers, it is the same, but for times too near to each other to be told apart.
    twice = np.concatenate((rows, np.full((1, 7), np.nan), rows))
    numbers = np.array([*(len(part) for part in parts), 0, *(len(part) for part in parts)])
    begins = np.array([0, len(rows), len(rows) + 1])
    np.testing.assert_allclose(joined_quantiles(twice, numbers, begins), [found, [np.nan] * 7, found], 1e-6, 1 / FINE)
    for quantile, value in zip(QUANTILES, found[1:-1], strict=True):
        below, above = (
            [np.interp(quantile + by, SHAPE, row) for row in rows] for by in (-0.005, 0.005)
        )  # fmt: skip
        assert min(below) - 1 / FINE <= value <= max(above) + 1 / FINE


def test_quantiles_of_many_intervals_are_near_those_of_all_probes():
    dice = np.random.default_rng(5)
    parts = [dice.gamma(9, 1000 + 60 * number, 400) for number in range(30)]
    rows = np.array([np.quantile(part, SHAPE) for part in parts])
    (found,) = joined_quantiles(rows, np.full(30, 400), np.array([0]))
    exact = np.quantile(np.concatenate(parts), QUANTILES)
    np.testing.assert_allclose(found[1:-1], exact, rtol=0.06)
    assert np.isnan(joined_quantiles(np.full((2, 7), np.nan), np.zeros(2), np.array([0]))).all()
    assert joined_quantiles(np.zeros((0, 7)), np.zeros(0), np.zeros(0, np.intp)).shape == (0, 7)


def test_the_e_model_at_the_values_of_the_recommendation():
    none = np.zeros(1)
    assert rating(none, none, none)[0] == pytest.approx(93.2)
    assert mos(np.array([93.2]))[0] == pytest.approx(4.41, abs=0.01)
    # G.107 annex B: these ratings and their opinion scores.
    np.testing.assert_allclose(mos(np.array([90, 80, 70, 60, 50])), [4.34, 4.03, 3.60, 3.10, 2.58], atol=0.01)
    # G.114: 150 ms from mouth to ear costs little, 400 ms a lot.
    slow = rating(np.array([130.0, 380.0]), np.zeros(2), np.zeros(2))
    assert slow[0] > 88 and 60 < slow[1] < 72
    # Losses of 5 % at random cost G.711 with concealment about 16 (G.113 appendix I).
    assert rating(none, none, np.array([5.0]))[0] == pytest.approx(93.2 - 95 * 5 / 30.1)


@given(st.floats(0, 3000), st.floats(0, 500), st.floats(0, 100))
def test_worse_never_sounds_better(delay, jitter, loss):
    here = mos(rating(np.array([delay]), np.array([jitter]), np.array([loss])))[0]
    worse = mos(rating(np.array([delay + 50]), np.array([jitter + 5]), np.array([min(100.0, loss + 1)])))[0]
    assert 1 <= worse <= here + 0.02 <= 4.53
