"""Traces of the routes of paths, one after another and a few side by side."""

import asyncio
import time
from collections.abc import Iterable
from dataclasses import dataclass, field

from lumtar.wire.faults import Fault
from lumtar.wire.trace import trace

EVERY_S = 60.0
SIDE_BY_SIDE = 10


@dataclass(slots=True)
class Tracer:
    """Traces the routes of paths once a minute; use it from one event loop only."""

    _wanted: dict[int, tuple[str, int]] = field(default_factory=dict)
    _found: dict[int, list[str]] = field(default_factory=dict)

    def want(self, targets: Iterable[tuple[int, str, int]]) -> None:
        """Trace these from now on: path, address, traffic class."""
        self._wanted = {path: (address, traffic_class) for path, address, traffic_class in targets}

    def taken(self) -> dict[int, list[str]]:
        """Addresses of hops by path, of traces that have ended since this was asked last."""
        found, self._found = self._found, {}
        return found

    async def work(self) -> None:
        """Trace until cancelled."""
        room = asyncio.Semaphore(SIDE_BY_SIDE)
        while True:
            begun = time.monotonic()
            await asyncio.gather(*(self._one(path, *target, room) for path, target in list(self._wanted.items())))
            # Soon after the start there is nothing to trace yet.
            pause = EVERY_S if self._wanted else 1.0
            await asyncio.sleep(max(1.0, pause - (time.monotonic() - begun)))

    async def _one(self, path: int, address: str, traffic_class: int, room: asyncio.Semaphore) -> None:
        async with room:
            try:
                self._found[path] = [hop.address for hop in await trace(address, traffic_class)]
            except Fault:
                # The path's own probes tell that nothing can be sent there.
                return
