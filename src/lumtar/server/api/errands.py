"""Having something done by a collector, where it is, and telling what it says while it is at it."""

import asyncio
import time
from collections.abc import AsyncIterator, Callable
from functools import partial
from typing import Any, TypeVar

from django.db import connection

from lumtar.domain.operation import errands
from lumtar.engine.errands import ERRANDS

T = TypeVar("T")
OFTEN_S = 0.1
TAKEN_WITHIN_S = 8.0
"""Seconds until somebody has to have taken an errand; after that it is done here."""


async def _ask(work: Callable[[], T]) -> T:
    def connected() -> T:
        try:
            return work()
        finally:
            connection.close()

    return await asyncio.to_thread(connected)


async def done_by_a_collector(kind: str, message: dict[str, Any]) -> AsyncIterator[dict[str, Any]]:
    """The lines of an errand. Where no collector runs the web server itself does it, from where it is."""
    if not await _ask(errands.somebody_collects):
        async for line in ERRANDS[kind](message):
            yield line
        return
    number = await _ask(lambda: errands.ask(kind, message))
    began, after = time.monotonic(), 0
    try:
        while True:
            lines, is_taken, is_all = await _ask(partial(errands.heard, number, after))
            for line in lines:
                yield line
            after += len(lines)
            if is_all:
                return
            if not is_taken and time.monotonic() - began > TAKEN_WITHIN_S:
                break
            await asyncio.sleep(OFTEN_S)
    finally:
        await _ask(lambda: errands.leave(number))
    async for line in ERRANDS[kind](message):
        yield line
