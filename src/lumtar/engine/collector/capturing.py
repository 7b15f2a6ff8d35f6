"""Captures of packets that people ask for, at an interface of the collector."""

import asyncio
import threading
import time
from contextlib import closing
from functools import partial

import structlog
from django.db import close_old_connections

from lumtar.core import pcapng
from lumtar.core.refusal import Refusal
from lumtar.domain.flows import captures
from lumtar.domain.flows.models import Capture
from lumtar.engine.service import AGAIN_S, AWAY, with_database
from lumtar.wire.capture import Tap

log = structlog.get_logger()
LOOK_S = 1.0
TRIES = 60
"""For as many tries the packets wait for a database that is away."""
STOPPED_S = 1.0
"""Whether somebody stopped it is looked at so often."""


class Capturing:
    """Does what is asked for, each capture in a thread of its own."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._tasks: set[asyncio.Task[None]] = set()

    async def run(self) -> None:
        """Work until cancelled; captures end then as well."""
        ending = threading.Event()
        try:
            while True:
                row = await asyncio.to_thread(with_database, lambda: captures.take(self.name))
                if row is not None:
                    task = asyncio.create_task(asyncio.to_thread(with_database, partial(capture, row, ending)))
                    self._tasks.add(task)
                    task.add_done_callback(self._tasks.discard)
                await asyncio.sleep(LOOK_S)
        finally:
            ending.set()


def capture(row: Capture, ending: threading.Event) -> None:
    """Capture until the time, the size or somebody says that it is enough; blocks until then."""
    try:
        state, words = Capture.State.DONE, _fill(row, ending)
    except Refusal as refusal:
        state, words = Capture.State.FAILED, str(refusal)
    except OSError as error:
        log.exception("a capture failed")
        state, words = Capture.State.FAILED, f"It failed: {error.strerror}."
    for _ in range(TRIES):
        try:
            captures.end(row, state, words)
            return
        except AWAY as error:
            log.warning("a capture waits for the database", error=str(error))
            time.sleep(AGAIN_S)
            close_old_connections()


def _is_stopped(row: Capture) -> bool:
    """Whether somebody stopped it; while the database is away nobody did."""
    try:
        return captures.is_stopped(row)
    except AWAY:
        close_old_connections()
        return False


def _fill(row: Capture, ending: threading.Event) -> str:
    """Packets into the row. Returns why it ended."""
    with closing(Tap(row.interface, row.filter, row.longest)) as tap:
        made = [pcapng.begin(row.interface, tap.link, row.longest, row.filter)]
        octets, until, looked = len(made[0]), time.monotonic() + row.seconds, time.monotonic()
        words = f"{row.seconds} s are over."
        for packet in tap.packets():
            now = time.monotonic()
            if packet is not None:
                block = pcapng.packet(packet.at_ns, packet.data, packet.length)
                if octets + len(block) > row.most_octets:
                    words = "It has as many octets as were asked for."
                    break
                made.append(block)
                octets += len(block)
            if now >= until:
                break
            if ending.is_set():
                words = "The collector was stopped."
                break
            if now - looked >= STOPPED_S:
                looked = now
                if _is_stopped(row):
                    words = f"Stopped after {row.seconds - (until - now):.0f} s."
                    break
        row.dropped = tap.dropped()
    row.packets, row.octets, row.data = len(made) - 1, octets, b"".join(made)
    return words
