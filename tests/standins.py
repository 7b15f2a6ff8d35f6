"""Stand-in devices that answer from a thread of their own, for tests that are not asynchronous."""

import asyncio
import threading
import time
from contextlib import contextmanager

from tests.lab.boxes import agent, box


@contextmanager
def standing_in(port, *addresses, user=None, **more):
    """A device at each of these addresses, named after its last number."""
    loop = asyncio.new_event_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()

    async def begin():
        return [
            agent(box(f"tst-acc-{address.rsplit('.', 1)[-1]}", address, **more), port, time.time(), user)
            for address in addresses
        ]

    async def end(agents):
        for each in agents:
            each.close()

    agents = asyncio.run_coroutine_threadsafe(begin(), loop).result(10)
    try:
        yield agents
    finally:
        asyncio.run_coroutine_threadsafe(end(agents), loop).result(10)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)
        loop.close()
