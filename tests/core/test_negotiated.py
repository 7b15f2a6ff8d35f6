"""What links negotiated: against the fastest speed of a month, and the duplex."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.negotiated import REMEMBERED_S, Negotiated, fastest_until, is_half

GIGABIT, FAST = 1e9, 1e8
DAY = 86_400.0


@pytest.fixture
def link():
    links = Negotiated()
    links.grow(1)
    return links


def fastest(links, at, bps, up=True):
    return links.note_speed(np.array([0]), np.array([at]), np.array([bps]), np.array([up]))[0]


def test_a_slower_speed_is_measured_against_the_fastest_for_a_month(link):
    assert fastest(link, 1 * DAY, GIGABIT) == GIGABIT
    assert fastest(link, 2 * DAY, FAST) == GIGABIT
    assert fastest(link, 1 * DAY + REMEMBERED_S, FAST) == GIGABIT
    assert fastest(link, 1 * DAY + REMEMBERED_S + 1, FAST) == FAST


def test_what_a_link_states_while_it_is_down_means_nothing(link):
    assert np.isnan(fastest(link, 1.0, GIGABIT, up=False))
    assert fastest(link, 2.0, FAST) == FAST
    assert fastest(link, 3.0, GIGABIT, up=False) == FAST


def test_another_link_in_its_place_begins_anew(link):
    fastest(link, 1.0, GIGABIT)
    link.note_duplex(0, 2)
    link.forget(np.array([0]))
    assert fastest(link, 2.0, FAST) == FAST and np.isnan(link.half_duplex[0])


def test_duplex_is_half_full_or_not_known():
    assert is_half(np.array([2, 3])).tolist() == [1.0, 0.0]
    assert np.isnan(is_half(np.array([0, 1, 7]))).all()


@given(st.lists(st.tuples(st.floats(0.01, 20), st.sampled_from([1e7, 1e8, 1e9, 1e10])), min_size=1, max_size=12))
def test_history_and_the_running_collector_agree(steps):
    """A link that is up and polled every six hours: what is remembered equals what is worked out of its speeds."""
    since = np.cumsum([days for days, _ in steps]) * DAY
    bps = np.array([speed for _, speed in steps])
    times = np.arange(since[0], since[-1] + 40 * DAY, DAY / 4)
    links = Negotiated()
    links.grow(1)
    worked_out = fastest_until(since, bps, times)
    for at, expected in zip(times, worked_out, strict=True):
        now = bps[np.searchsorted(since, at, side="right") - 1]
        seen = fastest(links, at, now)
        # Only the fastest is remembered, not the second fastest: once it is over, the speed of now counts.
        assert now <= seen <= max(expected, now)
