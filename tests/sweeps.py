"""Runs of sweeps, carried out as the worker does it."""

import asyncio
from concurrent.futures import ThreadPoolExecutor

from asgiref.sync import sync_to_async
from django.db import connections

from lumtar.engine import sweeping


def carry_out(run):
    """Carry a run out in a thread with an event loop of its own."""

    async def work():
        # Another module's tests may have ended the connection of the thread that asynchronous code asks by.
        await sync_to_async(connections.close_all)()
        await sweeping.sweep(run)
        await sync_to_async(connections.close_all)()

    with ThreadPoolExecutor(1) as thread:
        thread.submit(asyncio.run, work()).result(60)
