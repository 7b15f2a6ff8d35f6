"""The bare read loop: the same requests by the same library, the answers thrown away.

``python -m bench.bare DEVICES PORTS ROUNDS`` prints variable bindings and CPU seconds.
"""

import asyncio
import socket
import sys
import time

from bench.fleet import COMMUNITY, PORT, address
from lumtar.engine.collector.reading import STATES, TROUBLE, WIDE
from lumtar.wire import oids
from lumtar.wire.session import Community, Session
from lumtar.wire.tables import read_columns
from lumtar.wire.transport import Transport

AT_ONCE = 64


async def read(devices: int, ports: int, rounds: int) -> None:
    """Read every device so many times."""
    transport = Transport()
    room = asyncio.Semaphore(AT_ONCE)
    credential = Community(COMMUNITY)
    sessions = [Session(transport, socket.AF_INET, (address(number), PORT), credential) for number in range(devices)]

    async def once(session: Session) -> None:
        async with room:
            await session.get([oids.SYS_UPTIME, oids.IF_NUMBER, oids.IF_TABLE_LAST_CHANGE])
            await read_columns(session, [*STATES, *WIDE, *TROUBLE], ports)

    await asyncio.gather(*map(once, sessions))
    before, began = sum(session.varbinds for session in sessions), time.process_time()
    for _ in range(rounds):
        await asyncio.gather(*map(once, sessions))
    print(sum(session.varbinds for session in sessions) - before, time.process_time() - began)


if __name__ == "__main__":
    asyncio.run(read(*map(int, sys.argv[1:4])))
