"""Looks every few seconds: honest about devices that renew their counters seldom, gentle to slow ones."""

import numpy as np
import pytest

from lumtar.core.counters import VOID, Flag, Snapshot
from lumtar.core.live import SLOWEST, STANDSTILL, Watched, pace

UP = np.ones(1, np.bool_)
GIGABIT = np.array([1e9])


def seen(at: float, octets: int, uptime: int | None = None) -> Snapshot:
    counters = np.zeros((1, 12), np.uint64)
    counters[0, 0] = octets
    return Snapshot(
        np.array([at]),
        np.array([int(at * 100) if uptime is None else uptime], np.int64),
        np.zeros(1, np.int64),
        counters,
        np.ones(1, np.bool_),
        np.ones(1, np.bool_),
    )


def test_the_first_look_counts_nothing_and_the_second_counts_what_came_between():
    watched = Watched(UP)
    assert watched.take(seen(1000, 5_000), UP, GIGABIT).flags[0] & Flag.FIRST
    counted = watched.take(seen(1002, 255_000), UP, GIGABIT)
    assert counted.deltas[0, 0] == 250_000
    assert counted.elapsed_ms[0] == 2000


def test_a_device_that_renews_its_counters_every_five_seconds_shows_an_even_rate():
    watched, rates = Watched(UP), []
    for second in range(1, 41):
        # It moves 1,000 octets a second and tells so at every fifth.
        counted = watched.take(seen(1000 + second, 1000 * (second // 5) * 5), UP, GIGABIT)
        if not counted.flags[0] & VOID:
            rates.append(counted.deltas[0, 0] * 1000 / counted.elapsed_ms[0])
    # When its counters were renewed before the first look is not known.
    assert rates[1:] == [1000.0] * len(rates[1:])
    assert len(rates) >= 7


def test_a_port_that_fell_idle_is_believed_after_a_while():
    watched = Watched(UP)
    watched.take(seen(1000, 0), UP, GIGABIT)
    watched.take(seen(1002, 10_000), UP, GIGABIT)
    looks = {at: watched.take(seen(at, 10_000), UP, GIGABIT) for at in range(1004, 1024, 2)}
    held = [at for at, counted in looks.items() if counted.flags[0] & Flag.HELD]
    assert held == [at for at in looks if at - 1002 < STANDSTILL]
    idle = looks[max(held) + 2]
    assert (idle.deltas[0, 0], idle.elapsed_ms[0]) == (0, 1000 * (max(held) + 2 - 1002))


def test_a_port_that_went_down_is_idle_at_once():
    watched = Watched(UP)
    watched.take(seen(1000, 0), UP, GIGABIT)
    watched.take(seen(1002, 10_000), UP, GIGABIT)
    assert watched.take(seen(1004, 10_000), ~UP, GIGABIT).elapsed_ms[0] == 2000


def test_a_restart_voids_one_look_only():
    watched = Watched(UP)
    watched.take(seen(1000, 9_000_000), UP, GIGABIT)
    assert watched.take(seen(1002, 100, uptime=150), UP, GIGABIT).flags[0] & Flag.RESTARTED
    assert watched.take(seen(1004, 1100, uptime=350), UP, GIGABIT).deltas[0, 0] == 1000


@pytest.mark.parametrize(
    ("took_s", "silent", "expected"),
    [(0.01, 0, 1.0), (0.5, 0, 2.0), (4.0, 0, 16.0), (0.0, 1, 2.0), (0.0, 3, 8.0), (0.0, 9, SLOWEST), (4.0, 2, 16.0)],
)
def test_a_slow_device_is_looked_at_seldomer(took_s, silent, expected):
    assert pace(1.0, took_s, silent) == expected
