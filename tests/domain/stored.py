"""Readings as tests need them."""

from datetime import timedelta

import numpy as np

from lumtar.core.counters import Counted
from lumtar.core.ledger import Observation
from lumtar.domain.readings import services
from tests.core.examples import status
from tests.domain.conftest import NOW


def observation(at, octets_in, octets_out, elapsed_ms=60_000, flags=0, errors=0, oper=1):
    """One observation of one interface for each time."""
    n = len(at)
    deltas = np.zeros((n, 12), np.int64)
    deltas[:, 0], deltas[:, 1], deltas[:, 2], deltas[:, 8] = octets_in, octets_out, 10, errors
    plain = status(oper)
    whole = type(plain)(*(np.repeat(getattr(plain, name), n) for name in type(plain).__dataclass_fields__))
    blank = np.full(n, np.nan)
    return Observation(
        slots=np.zeros(n, np.int64), at=np.array([each.timestamp() for each in at]),
        counted=Counted(deltas, np.full(n, elapsed_ms, np.int32), np.broadcast_to(np.asarray(flags, np.int16), n).copy()),
        status=whole, in_bps=blank, out_bps=blank, in_percent=blank, out_percent=blank, rated=np.ones(n, bool),
        in_speed=np.zeros(n), out_speed=np.zeros(n), state_changed=np.zeros(n, bool), speed_changed=np.zeros(n, bool),
    )  # fmt: skip


def minutes(number, start=NOW):
    return [start + timedelta(minutes=each + 1) for each in range(number)]


def store(port, at, *args, **more):
    services.append(np.full(len(at), port.pk), observation(at, *args, **more))
