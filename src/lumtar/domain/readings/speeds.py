"""The speeds of interfaces at any time."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from lumtar.domain.readings import bulk

SINCE_BITS = 33
"""Of a number that puts interfaces and seconds of the epoch in one order."""

Numbers = NDArray[np.int64]
Floats = NDArray[np.float64]


def known(interfaces: Sequence[int]) -> NDArray[np.void]:
    """The speeds of some interfaces in the order of interface and time: in force in both directions, and as the port states it."""
    sql = f"""SELECT interface_id, date_part('epoch', since), in_bps::float8, out_bps::float8, port_bps::float8
        FROM inventory_interfacespeed WHERE {bulk.AMONG}"""
    kinds = [("interface", "i8"), ("since", "f8"), ("in", "f8"), ("out", "f8"), ("port", "f8")]
    rows = bulk.fetch(sql, {"only": list(interfaces)}, kinds)
    return rows[np.lexsort((rows["since"], rows["interface"]))]


def at(given: NDArray[np.void], which: str, interface: Numbers, times: Floats) -> Floats:
    """The speeds at some times, bits per second; 0 where none is known.

    Parameters
    ----------
    given : what :func:`known` gave
    which : "in" or "out" for what is in force, "port" for what the port states
    """
    if not len(given) or not len(interface):
        return np.zeros(len(interface))
    place = np.searchsorted(_key(given["interface"], given["since"]), _key(interface, times), side="right") - 1
    mine = (place >= 0) & (given["interface"][place] == interface)
    return np.where(mine, given[which][place], 0.0)


def _key(interface: Numbers, times: Floats) -> Numbers:
    return (interface.astype(np.int64) << SINCE_BITS) + times.astype(np.int64)
