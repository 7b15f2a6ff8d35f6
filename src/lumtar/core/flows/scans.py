"""Scans: senders that reach many receivers, or try many ports at one of them, within a minute."""

import numpy as np
from numpy.typing import NDArray

from lumtar.core.flows.totals import IN, Conversations

LEAST = 20
"""Receivers, or ports, from which on a sender is told of: fewer is what any browser does."""
FAN_OUT = np.dtype(
    [
        ("minute", "i8"), ("interface", "u4"), ("src_hi", "u8"), ("src_lo", "u8"), ("receivers", "u4"), ("ports", "u4"),
        ("dst_hi", "u8"), ("dst_lo", "u8"), ("octets", "u8"),
    ]
)  # fmt: skip
"""A sender at the interface by which it came in: how many receivers it reached, the most ports that it tried at one of them, and at
which; octets to all of them. Servers answer many receivers as well: replies do not count, as far as ports tell them."""


def fan_out(rows: Conversations) -> NDArray[np.void]:
    """The senders with many receivers or ports, by minute and interface.

    Parameters
    ----------
    rows : conversations one by one, before the smaller ones are put together
    """
    mine = rows[(rows["way"] == IN) & (rows["is_rest"] == 0) & (rows["is_reply"] == 0)]
    if not len(mine):
        return np.zeros(0, FAN_OUT)
    names = ("minute", "interface", "src_hi", "src_lo", "dst_hi", "dst_lo", "port", "protocol")
    mine = mine[np.lexsort([mine[name] for name in reversed(names)])]
    changes = {name: np.append(True, mine[name][1:] != mine[name][:-1]) for name in names}
    new_sender = changes["minute"] | changes["interface"] | changes["src_hi"] | changes["src_lo"]
    new_receiver = new_sender | changes["dst_hi"] | changes["dst_lo"]
    new_port = new_receiver | changes["port"] | changes["protocol"]
    pairs = np.flatnonzero(new_receiver)
    ports = np.add.reduceat(new_port.astype("i8"), pairs)
    senders = np.flatnonzero(new_sender)
    sender_of_pair = np.cumsum(new_sender)[pairs] - 1
    # Of each sender the pair with most ports stands last.
    order = np.lexsort((ports, sender_of_pair))
    last = np.flatnonzero(np.append(np.diff(sender_of_pair[order]) != 0, True))
    worst = pairs[order][last]
    made = np.zeros(len(senders), FAN_OUT)
    for name in ("minute", "interface", "src_hi", "src_lo"):
        made[name] = mine[name][senders]
    made["receivers"] = np.bincount(sender_of_pair, minlength=len(senders))
    made["ports"], made["dst_hi"], made["dst_lo"] = ports[order][last], mine["dst_hi"][worst], mine["dst_lo"][worst]
    made["octets"] = np.add.reduceat(mine["octets"], senders)
    return made[(made["receivers"] >= LEAST) | (made["ports"] >= LEAST)]
