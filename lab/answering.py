"""How long answers take in the scenario: what exporters of IPFIX tell of the network, and of the server, for each request."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from lab.incidents import SLOW_SERVERS
from lumtar.core.flows.records import Records, address_numbers

ENTERPRISE = 32473
"""For examples (RFC 5612)."""
NETWORK_ELEMENT, SERVER_ELEMENT = 1, 2
TCP, FIRST_CLIENT_PORT = 6, 49152
SERVER_MS = {443: 45.0, 8080: 38.0, 445: 6.0, 993: 20.0, 389: 3.0, 5432: 25.0, 873: 12.0}
NETWORK_MS, BEYOND_MS = 5.0, 9.0
"""Round trip to Central, and what is added to servers that are elsewhere."""
LONGEST_QUEUE_MS = 300.0
INTERNET = (address_numbers("2001:db8:f00d::")[0] >> 16, address_numbers("198.51.100.0")[1] >> 8)
"""The first bits of servers that are not the county's: of version 6 in the upper half, of version 4 in the lower one."""
Slow = Mapping[int, float]
"""Milliseconds by the port of a service."""


def is_asking(records: Records) -> NDArray[np.bool_]:
    """Which records are of requests to a service: TCP, towards its port."""
    is_request = (records["dst_port"] < FIRST_CLIENT_PORT) & (records["src_port"] >= FIRST_CLIENT_PORT)
    return np.asarray((records["protocol"] == TCP) & is_request)


def microseconds(records: Records, load: float, now: float, epoch: float, slow: Slow) -> NDArray[np.float64]:
    """Of each record the network's and the server's time (n, 2); zeros where nothing is measured.

    Parameters
    ----------
    load : of the port that requests pass, 0 to 1: where it is full they queue
    epoch : when the demonstration was loaded
    slow : services that somebody made slow
    """
    with np.errstate(over="ignore"):
        mixed = (records["src_lo"] + records["dst_lo"] * np.uint64(31) + np.uint64(now // 60)) * np.uint64(
            0x9E3779B97F4A7C15
        )
    luck = (mixed >> np.uint64(40)).astype("f8") / 2.0**24
    is_beyond = (records["dst_hi"] >> np.uint64(16) == INTERNET[0]) | (records["dst_lo"] >> np.uint64(8) == INTERNET[1])
    busy = min(max(load, 0.0), 0.995)
    queue = min(LONGEST_QUEUE_MS, 1.5 * busy**4 / (1 - busy))
    network = NETWORK_MS + np.where(is_beyond, BEYOND_MS, 0.0) + 3 * luck + queue
    server = np.zeros(len(records))
    for port, usual in SERVER_MS.items():
        server[records["dst_port"] == port] = slow.get(port, usual)
    server *= 0.7 + 0.6 * luck
    for each in SLOW_SERVERS:
        if each.start <= now - epoch < each.end:
            hi, lo = address_numbers(each.address)
            server[(records["dst_hi"] == hi) & (records["dst_lo"] == lo) & (records["dst_port"] == each.port)] = each.ms
    return np.where(is_asking(records)[:, None], np.stack((network, server), axis=1), 0.0) * 1000.0
