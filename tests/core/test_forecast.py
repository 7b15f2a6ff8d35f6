"""When something will be full."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.forecast import FARTHEST_DAYS, SHARES, Verdict, reached, trends

WEEKLY = np.array([1.0, 1.1, 1.1, 1.05, 1.0, 0.3, 0.2])


def days(number, slope=0.0, noise=0.0, level=100.0, seed=1):
    at = np.arange(number)
    chance = np.random.default_rng(seed)
    return (level * WEEKLY[at % 7] + slope * (at - number + 1) + chance.normal(0, noise, number))[None, :]


class TestTrends:
    @given(st.floats(-0.9, 5), st.integers(29, 180))
    def test_the_trend_is_found_beneath_the_week(self, slope, number):
        found = trends(days(number, slope))
        assert found.slope[0] == pytest.approx(slope, abs=1e-9)
        assert found.level[0] == pytest.approx(110, abs=1e-6)

    def test_a_bad_week_does_not_bend_it(self):
        values = days(84, 0.5)
        values[0, 70:75] *= 6
        values[0, 20:24] = np.nan
        found = trends(values)
        assert found.slope[0] == pytest.approx(0.5, abs=0.05)
        assert found.verdict == [Verdict.GROWS]

    def test_the_interval_holds_the_truth_about_as_often_as_it_says(self):
        found = trends(np.vstack([days(70, 0.4, 5.0, seed=seed) for seed in range(300)]))
        held = (found.lowest <= 0.4) & (found.highest >= 0.4)
        assert 0.7 < held.mean() < 0.92
        assert np.all(found.lowest <= found.slope) and np.all(found.slope <= found.highest)

    @pytest.mark.parametrize(
        ("values", "verdict"),
        [
            (days(27, 1.0), Verdict.SHORT),
            (np.full((1, 90), np.nan), Verdict.SHORT),
            (days(90, 0.0, 1.0), Verdict.STEADY),
            (days(90, 0.5, 2.0), Verdict.GROWS),
            (days(90, -0.5, 2.0), Verdict.FALLS),
            (np.abs(np.random.default_rng(2).standard_cauchy((1, 90))) * 100, Verdict.IRREGULAR),
            (np.zeros((1, 90)), Verdict.STEADY),
        ],
    )
    def test_what_can_be_said(self, values, verdict):
        assert trends(values).verdict == [verdict]

    def test_scattered_days_are_too_short(self):
        values = np.full((1, 90), np.nan)
        values[0, -20:] = 5.0
        assert trends(values).verdict == [Verdict.SHORT]

    def test_many_at_once_are_as_one_by_one(self):
        series = [days(90, slope, 3.0, seed=number) for number, slope in enumerate((0, 1, -0.3))]
        together = trends(np.vstack(series))
        alone = [trends(each) for each in series]
        assert together.slope.tolist() == [each.slope[0] for each in alone]
        assert together.verdict == [each.verdict[0] for each in alone]


class TestReached:
    def test_days_until_each_share(self):
        found = reached(level=60.0, slope=0.5, lowest=0.25, highest=1.0, speed=100.0)
        assert [(each.share, each.earliest, each.days, each.latest) for each in found] == [
            (70, 10, 20, 40),
            (80, 20, 40, 80),
            (90, 30, 60, 120),
            (100, 40, 80, 160),
        ]

    def test_what_is_reached_already(self):
        assert reached(95.0, -1.0, -2.0, -0.5, 100.0)[0].days == 0
        assert [each.share for each in reached(95.0, -1.0, -2.0, -0.5, 100.0)] == [70, 80, 90]

    def test_without_growth_or_far_away_nothing_is_said(self):
        assert reached(10.0, 0.0, -1.0, 1.0, 100.0) == []
        assert reached(10.0, 1e-6, 0.0, 1.0, 100.0) == []

    def test_without_a_latest_day_when_it_may_never_come(self):
        assert reached(60.0, 0.5, -0.1, 1.0, 100.0)[0].latest is None

    @given(st.floats(0, 200), st.floats(-5, 5), st.floats(1, 1000))
    def test_a_larger_share_is_never_reached_sooner(self, level, slope, speed):
        found = reached(level, slope, slope - 0.1, slope + 0.1, speed)
        assert [each.days for each in found] == sorted(each.days for each in found)
        assert all(each.share in SHARES and each.days <= FARTHEST_DAYS for each in found)
