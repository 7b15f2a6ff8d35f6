"""Runs of sweeps, carried out as the worker does it."""

import asyncio
import threading

from django.db import connections

from lumtar.engine import sweeping


def carry_out(run):
    """Carry a run out in a thread with an event loop of its own."""

    def work():
        asyncio.run(sweeping.sweep(run))
        connections.close_all()

    thread = threading.Thread(target=work)
    thread.start()
    thread.join(30)
