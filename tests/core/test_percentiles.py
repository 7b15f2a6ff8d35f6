"""Percentiles, and means kept in sixteen bits."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from lumtar.core.percentiles import BOUND, decode, encode, means, percentile

RATES = arrays(np.float64, st.integers(1, 400), elements=st.floats(1, 1e14))


@given(RATES)
def test_a_kept_mean_is_right_within_the_bound(rates):
    assert BOUND < 0.0003
    assert np.all(np.abs(decode(encode(rates)) - rates) <= rates * BOUND * 1.001)


def test_nothing_measured_and_no_traffic_stay_apart():
    found = decode(encode(np.array([np.nan, 0.0, 0.4, 1.0, 1e20])))
    assert np.isnan(found[0]) and found[1] == 0
    assert found[2] == found[3] == 1.0 and found[4] == pytest.approx(1e14)


@given(RATES, st.floats(1, 100))
def test_a_percentile_is_one_of_the_values_and_order_is_all_that_counts(rates, share):
    found = percentile(rates, share)
    assert found in rates
    assert found == percentile(rates[::-1], share)
    assert np.mean(rates <= found) >= share / 100 - 1e-9
    assert percentile(decode(encode(rates)), share) == pytest.approx(found, rel=BOUND * 1.01)


def test_the_95th_of_a_hundred_is_the_fifth_highest_but_one():
    assert percentile(np.arange(1.0, 101.0)) == 95.0
    assert percentile(np.array([7.0])) == 7.0
    assert percentile(np.array([np.nan])) is None


class TestMeans:
    def test_readings_of_a_minute_are_put_together(self):
        at = np.arange(60.0, 601.0, 60.0)
        found = means(at, np.full(10, 60_000.0), np.arange(10) * 7500.0, 0.0, 3)
        assert found[:2] == pytest.approx([2000.0, 7000.0]) and np.isnan(found[2])

    def test_a_long_reading_fills_the_time_before_its_end(self):
        found = means(np.array([900.0]), np.array([900_000.0]), np.array([112_500.0]), 0.0, 4)
        assert found[:3] == pytest.approx([1000.0] * 3) and np.isnan(found[3])

    def test_but_nothing_that_was_measured_more_finely(self):
        at, took = np.array([300.0, 1200.0]), np.array([300_000.0, 900_000.0])
        found = means(at, took, np.array([75_000.0, 112_500.0]), 0.0, 4)
        assert found == pytest.approx([2000.0, 1000.0, 1000.0, 1000.0])

    def test_nothing_outside_the_slots_counts(self):
        found = means(np.array([0.0, 300.0, 601.0]), np.full(3, 300_000.0), np.full(3, 37_500.0), 0.0, 2)
        assert found[0] == 1000.0 and np.isnan(found[1])

    @given(st.lists(st.tuples(st.floats(-1000, 9000), st.sampled_from([0, 60, 300, 450, 600, 900, 3600])), max_size=30))
    def test_long_ones_fill_slot_by_slot_what_nothing_else_measured(self, readings):
        at = np.array(sorted(at for at, _ in readings))
        took = np.array([1000.0 * seconds for _, seconds in readings])
        octets = np.arange(1.0, len(readings) + 1) * 1e6
        found = means(at, took, octets, 0.0, 24)
        measured = {}
        for end, milliseconds, counted in zip(at, took, octets, strict=True):
            slot = int(np.ceil(end / 300)) - 1
            if milliseconds and 0 <= slot < 24:
                measured.setdefault(slot, []).append((milliseconds, counted))
        wanted = {
            slot: 8000 * sum(counted for _, counted in each) / sum(milliseconds for milliseconds, _ in each)
            for slot, each in measured.items()
        }
        for slot, each in sorted(measured.items()):
            for milliseconds, counted in each:
                for before in range(max(0, slot + 1 - round(milliseconds / 300_000)), slot):
                    wanted.setdefault(before, counted * 8000 / milliseconds)
        assert [None if np.isnan(each) else each for each in found.tolist()] == [
            pytest.approx(wanted[slot]) if slot in wanted else None for slot in range(24)
        ]
