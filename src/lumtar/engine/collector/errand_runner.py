"""What somebody waits for, done where the collector is: tries of devices, reads of single objects."""

import asyncio
from contextlib import aclosing, suppress
from functools import partial
from typing import Any
from uuid import UUID

import structlog

from lumtar.domain.operation import errands
from lumtar.engine.errands import ERRANDS
from lumtar.engine.service import AWAY, with_database

log = structlog.get_logger()
ERRANDS_S = 0.2


class ErrandRunner:
    """Takes errands and does them side by side."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.tasks: set[asyncio.Task[None]] = set()

    async def run(self) -> None:
        """Do what somebody is waiting for."""
        while True:
            for number, kind, asked in await asyncio.to_thread(with_database, lambda: errands.take(self.name)):
                task = asyncio.create_task(self._do(number, kind, asked))
                self.tasks.add(task)
                task.add_done_callback(self.tasks.discard)
            await asyncio.sleep(ERRANDS_S)

    async def _do(self, errand: UUID, kind: str, asked: dict[str, Any]) -> None:
        number = 0
        try:
            async with aclosing(ERRANDS[kind](asked)) as lines:  # type: ignore[type-var]
                async for line in lines:
                    number += 1
                    said = partial(errands.say, errand, number, line)
                    if not await asyncio.to_thread(with_database, said):
                        return
        except AWAY as error:
            log.warning("an errand could not be told of", kind=kind, error=str(error))
        except Exception:
            # It is this errand's alone; who waits hears that it has ended.
            log.exception("an errand failed", kind=kind)
        finally:
            with suppress(*AWAY):
                await asyncio.to_thread(with_database, lambda: errands.end(errand))
