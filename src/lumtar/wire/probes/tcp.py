"""How long a connection of TCP takes to stand (RFC 9293 section 3.5): one round trip and what the host needs for it."""

import asyncio
import socket
import time

from lumtar.wire.connecting_faults import connecting
from lumtar.wire.ip_options import TRAFFIC_CLASS, family_of
from lumtar.wire.probes.asking import TIMEOUT_S, Asked, Target, microseconds


async def ask(target: Target) -> Asked:
    """Connect, and close at once.

    Raises
    ------
    Fault
    """
    family = family_of(target.address)
    with connecting(target.port, TIMEOUT_S), socket.socket(family, socket.SOCK_STREAM) as outlet:
        outlet.setblocking(False)
        outlet.setsockopt(*TRAFFIC_CLASS[family], target.traffic_class)
        since = time.perf_counter()
        async with asyncio.timeout(TIMEOUT_S):
            await asyncio.get_running_loop().sock_connect(outlet, (target.address, target.port))
        took = microseconds(since)
        return Asked(took, {"connected": took})
