"""Having something done by a collector, where it is, and telling what it says while it is at it."""

import asyncio
import time
from collections.abc import AsyncIterator
from functools import partial
from typing import Any

from lumtar.domain.operation import errands
from lumtar.engine.errands import ERRANDS, ask_database

OFTEN_S = 0.1
TAKEN_WITHIN_S = 8.0
"""Seconds until somebody has to have taken an errand; after that it is done here."""


async def done_by_a_collector(kind: str, message: dict[str, Any]) -> AsyncIterator[dict[str, Any]]:
    """The lines of an errand. Where no collector runs the web server itself does it, from where it is."""
    if not await ask_database(errands.somebody_collects):
        async for line in ERRANDS[kind](message):
            yield line
        return
    number = await ask_database(lambda: errands.ask(kind, message))
    began, after = time.monotonic(), 0
    try:
        while True:
            lines, is_taken, is_all = await ask_database(partial(errands.heard, number, after))
            for line in lines:
                yield line
            after += len(lines)
            if is_all:
                return
            if not is_taken and time.monotonic() - began > TAKEN_WITHIN_S:
                break
            await asyncio.sleep(OFTEN_S)
    finally:
        await ask_database(lambda: errands.leave(number))
    async for line in ERRANDS[kind](message):
        yield line
