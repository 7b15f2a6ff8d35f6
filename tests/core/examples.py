"""Snapshots for tests, with sensible values for whatever a test does not care about."""

import numpy as np

from lumtar.core.counters import Counted, Snapshot, count
from lumtar.core.ledger import Status

GIGABIT = 1e9


def snapshot(at, octets=(0, 0), *, uptime=None, discontinuity=0, packets=0, errors=0, present=True, wide=True):
    """One interface. ``octets`` are in and out; ``uptime`` in hundredths of a second follows ``at`` unless given."""
    counters = np.zeros((1, 12), np.uint64)
    counters[0, 0], counters[0, 1] = octets
    counters[0, 2] = packets
    counters[0, 8] = errors
    ticks = int(at * 100) % 2**32 if uptime is None else uptime
    return Snapshot(
        np.array([float(at)]),
        np.array([ticks]),
        np.array([discontinuity]),
        counters,
        np.array([present]),
        np.array([wide]),
    )


def counted(before, after, *, first=False, interval=60.0, speed=GIGABIT, moved=True, holds=0, up=True) -> Counted:
    return count(
        before,
        after,
        first=np.array([first]),
        interval=np.array([interval]),
        speed_bps=np.array([speed]),
        moved=np.array([moved]),
        holds=np.array([holds], np.int16),
        is_up=np.array([up]),
    )


def status(oper=1, admin=1, high_speed=1000, speed=1_000_000_000):
    return Status(np.array([admin], np.int16), np.array([oper], np.int16), np.array([high_speed]), np.array([speed]))
