"""Answers of devices to polls, as the recorder takes them."""

import numpy as np

from lumtar.core.counters import Snapshot
from lumtar.core.ledger import Status
from lumtar.engine.recorder import Answer


def answer(device, slots, at):
    ones = np.ones(2, bool)
    counters = np.full((2, 12), int(at), np.uint64)
    snapshot = Snapshot(np.full(2, at), np.full(2, int(at)), np.zeros(2, np.int64), counters, ones, ones)
    states = np.ones(2, np.int16)
    return Answer(
        device, at, 100, slots, snapshot, Status(states, states, np.full(2, 100), np.full(2, 10**8)), at + 60, 1.0, 2.0
    )
