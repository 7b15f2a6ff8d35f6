"""Between the polls and the database: a bounded queue and one thread that writes.

While the database is away, refuses connections or has no disk left, readings wait. What no longer fits is dropped, oldest
first, and becomes a gap that says so; alarms are never dropped. Whatever a batch holds, the thread goes on.
"""

import threading
import time
from collections import deque
from dataclasses import dataclass

import structlog
from django.db import close_old_connections, connection

from lumtar.engine import store
from lumtar.engine.batch import Batch, GapNews
from lumtar.engine.store import SetAside, Unwritable

log = structlog.get_logger()
MOST_ROWS = 1_000_000
MOST_OCTETS = 640 << 20
"""Memory that what waits may take, readings and words together."""
PAUSE = 1.0
MOST_SET_ASIDE = 100
"""Devices of which it is remembered that the database refused what they gave."""
WORTH_A_NEW_GAP = 3600.0
"""Seconds after which what is set aside of a device is a gap anew, rather than the same one going on."""


@dataclass(slots=True)
class Lost:
    """What of a device was dropped: from when to when, in seconds of the epoch."""

    start: float
    end: float
    words: str


class WriteQueue:
    """Writes batches in their order. ``put`` never blocks."""

    def __init__(self, most_rows: int = MOST_ROWS, most_octets: int = MOST_OCTETS) -> None:
        self.dropped_rows = 0
        self.dropped_entries = 0
        self.refused_rows = 0
        self.late_rows = 0
        """Read by this collector, but another one holds the device by now."""
        self.written_rows = 0
        self.trouble = ""
        """Why nothing is written just now."""
        self.set_aside: dict[int, SetAside] = {}
        """By device, what the database last refused of it."""
        self._most_rows, self._most_octets = most_rows, most_octets
        self._queue: deque[Batch] = deque()
        self._since: deque[float] = deque()
        """When each batch of the queue was handed over, by the monotonic clock."""
        self._rows = self._octets = 0
        self._put = self._done = 0
        self._lost: dict[int, Lost] = {}
        self._changed = threading.Condition()
        self._ending = False
        self._thread = threading.Thread(target=self._work, name="write queue", daemon=True)

    @property
    def waiting_rows(self) -> int:
        """Readings that are not stored yet."""
        return self._rows

    @property
    def oldest_waiting_s(self) -> float:
        """Seconds since the oldest batch that waits was handed over; 0 if none waits."""
        with self._changed:
            return time.monotonic() - self._since[0] if self._since else 0.0

    def start(self) -> None:
        """Begin to write."""
        self._thread.start()

    @property
    def is_alive(self) -> bool:
        """Whether the thread that writes runs."""
        return self._thread.is_alive()

    def put(self, batch: Batch) -> None:
        """Hand a batch over."""
        with self._changed:
            self._append(batch)
            self._put += 1
            self._rows += batch.rows
            self._octets += batch.octets
            if self._rows > self._most_rows or self._octets > self._most_octets:
                self._drop()
            self._changed.notify()

    def _append(self, batch: Batch) -> None:
        self._queue.append(batch)
        self._since.append(time.monotonic())

    def _drop(self) -> None:
        """Empty the oldest batches of what they read, and remember whose it was."""
        # The first batch may be in the writer's hands.
        for batch in list(self._queue)[1:]:
            if self._rows <= self._most_rows and self._octets <= self._most_octets:
                return
            self._empty(batch)
        for batch in list(self._queue)[1:]:
            if self._octets <= self._most_octets:
                return
            before = batch.octets
            self.dropped_entries += len(batch.entries)
            batch.entries = []
            self._octets += batch.octets - before

    def _empty(self, batch: Batch) -> None:
        rows, before = batch.rows, batch.octets
        if not before:
            return
        for news in batch.devices:
            self._lose(news.device, news.at - 60.0, news.at, "readings were dropped, the database was away")
        batch.empty()
        self._rows -= rows
        self._octets += batch.octets - before
        self.dropped_rows += rows

    def _lose(self, device: int, start: float, end: float, words: str) -> None:
        known = self._lost.get(device)
        if known is None or start > known.end + WORTH_A_NEW_GAP:
            self._lost[device] = Lost(start, end, words)
        else:
            known.end = max(known.end, end)

    def drain(self, patience: float) -> bool:
        """Wait until everything that was handed over by now is stored; false if it takes longer than so many seconds."""
        with self._changed:
            goal = self._put
            return self._changed.wait_for(lambda: self._done >= goal, patience)

    def finish(self, patience: float = 5.0) -> None:
        """Write what waits, if the database is there, and end."""
        with self._changed:
            self._ending = True
            self._changed.notify()
        self._thread.join(patience)

    def _work(self) -> None:
        while (batch := self._next()) is not None:
            rows, octets = batch.rows, batch.octets
            try:
                outcome = store.write(batch)
                self.late_rows += outcome.late_rows
                self._note(outcome.set_aside)
            except Unwritable as error:
                if not self._wait(error):
                    break
                continue
            except Exception as error:
                # Whatever it is, it is this batch's, and the next one is written all the same.
                log.exception("a batch could not be stored at all", rows=rows)
                self.refused_rows += rows
                for news in batch.devices:
                    self._lose(news.device, news.at - 60.0, news.at, f"could not be stored: {error}"[:300])
            else:
                self.written_rows += rows
            self.trouble = ""
            with self._changed:
                self._queue.popleft()
                self._since.popleft()
                self._done += 1
                self._rows -= rows
                self._octets -= octets
                self._tell_what_was_lost()
                self._changed.notify_all()
        connection.close()

    def _next(self) -> Batch | None:
        with self._changed:
            while not self._queue and not self._ending:
                self._changed.wait()
            return self._queue[0] if self._queue else None

    def _note(self, refused: list[SetAside]) -> None:
        for each in refused:
            self.refused_rows += each.rows
            if each.device is None:
                continue
            if len(self.set_aside) < MOST_SET_ASIDE or each.device in self.set_aside:
                self.set_aside[each.device] = each
            if each.rows:
                words = f"what it gave could not be stored: {each.words}"
                self._lose(each.device, each.start - 60.0, each.end, words)

    def _tell_what_was_lost(self) -> None:
        """Once it is written to again, what was dropped becomes a gap of each device, ahead of what still waits."""
        if not self._lost:
            return
        gaps = [GapNews(device, lost.start, lost.end, "dropped", lost.words) for device, lost in self._lost.items()]
        self._lost = {}
        batch = Batch(gaps=gaps)
        self._append(batch)
        self._put += 1
        self._octets += batch.octets

    def _wait(self, error: Unwritable) -> bool:
        """Wait a little before the same batch is tried again; false if there is no time left for that."""
        if not self.trouble:
            log.warning("the database cannot be written to, readings wait", error=str(error))
        self.trouble = str(error).strip().splitlines()[0][:200] if str(error).strip() else "no connection"
        if self._ending:
            return False
        time.sleep(PAUSE)
        # What broke is thrown away; else each try would meet the same dead connection.
        close_old_connections()
        return True
