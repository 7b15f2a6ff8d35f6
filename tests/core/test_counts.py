"""Measures of many interfaces over one time."""

from dataclasses import fields

import numpy as np
import pytest

from lumtar.core.measures import RANKED as MEASURES
from lumtar.core.measures import Counts
from lumtar.core.totals import change, ranked


def totals(n=3, seconds=3600.0, **more):
    told = {each.name: np.zeros(n, np.int64) for each in fields(Counts)}
    told |= {name: np.full(n, np.nan) for name in ("in_min_bps", "out_min_bps", "in_max_bps", "out_max_bps")}
    told |= {"interface": np.arange(n), "in_bps": np.full(n, 1e9), "out_bps": np.full(n, 1e9), "seconds": seconds}
    told |= {"elapsed_ms": np.full(n, 3_600_000), "readings": np.full(n, 60), "up_readings": np.full(n, 60)}
    return Counts(**{**told, **{name: np.asarray(value) for name, value in more.items()}})


def test_rates_are_weighted_by_what_was_measured():
    found = totals(in_octets=[45_000_000_000, 450_000, 0], elapsed_ms=[3_600_000, 1_800_000, 0])
    assert found.rate("in")[:2] == pytest.approx([1e8, 2000.0])
    assert np.isnan(found.rate("in")[2])
    assert found.measured.tolist() == [1.0, 0.5, 0.0]
    assert found.share("in")[0] == pytest.approx(10.0)


def test_the_load_is_the_larger_direction_and_may_be_known_of_one_alone():
    found = totals(in_octets=[10**9, 10**9, 10**9], out_octets=[2 * 10**9] * 3, out_bps=[1e9, 1e8, 0.0])
    rate = 8e9 / 3600
    assert found.load() == pytest.approx([2 * rate / 1e7, 2 * rate / 1e6, rate / 1e7])


def test_errors_are_set_against_the_packets_they_are_not_among():
    found = totals(in_packets=[999_990, 0, 0], in_errors=[6, 5, 0], out_discards=[4, 0, 0])
    assert found.errors_per_million[:2] == pytest.approx([10.0, 1e6])
    assert np.isnan(found.errors_per_million[2])


def test_volumes_hold_what_was_counted_across_gaps():
    found = totals(in_octets=[1, 2, 3], bridged_out_octets=[10, 20, 30])
    assert found.volume.tolist() == [11.0, 22.0, 33.0]


@pytest.mark.parametrize("name", MEASURES)
def test_every_measure_gives_one_value_an_interface(name):
    assert MEASURES[name].of(totals()).shape == (3,)


class TestChange:
    def test_is_told_in_octaves_in_the_direction_that_changed_more(self):
        now = totals(in_octets=[8 * 10**9, 10**9, 0], out_octets=[10**9, 10**9, 0])
        usual = totals(in_octets=[10**9, 8 * 10**9, 0], out_octets=[10**9, 10**9, 0])
        assert change(now, usual) == pytest.approx([3.0, -3.0, 0.0])

    def test_idle_ports_do_not_change(self):
        assert change(totals(in_octets=[100, 0, 5]), totals(in_octets=[1, 90, 0])) == pytest.approx([0.0, 0.0, 0.0])

    def test_what_is_not_in_both_is_not_known(self):
        assert np.isnan(change(totals(2), totals(0))).all()
        assert np.isnan(change(totals(2), totals(1))).tolist() == [False, True]


def test_rank_leaves_out_what_is_not_known_and_keeps_the_order_of_equals():
    values = np.array([1.0, np.nan, 3.0, 1.0, 2.0])
    assert ranked(values, 10).tolist() == [2, 4, 0, 3]
    assert ranked(values, 2).tolist() == [2, 4]
    assert ranked(values, 3, lowest=True).tolist() == [0, 3, 4]
