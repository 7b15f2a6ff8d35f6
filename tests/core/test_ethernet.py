"""What only Ethernet counts: differences of Counter32, and what is not believed."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.ethernet import Seen, counted


def seen(at, rows, uptime=None):
    """``rows``: ifIndex -> FCS, alignment, late collisions."""
    return Seen(
        at,
        int(at * 100) if uptime is None else uptime,
        np.array(list(rows), np.int64),
        np.array(list(rows.values()), np.int64).reshape(-1, 3),
        np.full(len(rows), 3),
    )


def test_only_interfaces_with_errors_are_told():
    before, after = seen(0, {1: (5, 0, 0), 2: (7, 0, 0)}), seen(300, {1: (9, 1, 0), 2: (7, 0, 0), 3: (1, 0, 0)})
    (found,) = counted(before, after)
    assert (found.if_index, found.seconds, found.counts) == (1, 300, (4, 1, 0))


def test_nothing_is_known_at_first_or_after_a_restart():
    assert counted(None, seen(300, {1: (9, 9, 9)})) == []
    assert counted(seen(300, {1: (1, 1, 1)}), seen(600, {1: (9, 9, 9)}, uptime=50)) == []


def test_a_counter_that_wraps_counts_on_and_one_that_is_set_back_does_not():
    (found,) = counted(seen(0, {1: (2**32 - 2, 50, 0)}), seen(300, {1: (3, 0, 0)}))
    assert found.counts == (5, 0, 0)


@given(
    st.lists(st.integers(0, 2**31 - 1), min_size=3, max_size=3),
    st.lists(st.integers(0, 2**32 - 1), min_size=3, max_size=3),
)
def test_what_was_added_is_what_is_counted(added, start):
    end = [(one + more) % 2**32 for one, more in zip(start, added, strict=True)]
    found = counted(seen(0, {4: start}), seen(300, {4: end}))
    assert [each.counts for each in found] == ([tuple(added)] if any(added) else [])
