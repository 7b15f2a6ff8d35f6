"""Between the polls and the database: a bounded queue and one thread that writes.

While the database is away readings wait. What no longer fits is dropped, oldest first, and
becomes a gap that says so; alarms and log entries are never dropped.
"""

import threading
import time
from collections import deque

import structlog
from django.db import DatabaseError, InterfaceError, close_old_connections, connection

from lumtar.engine import store
from lumtar.engine.recorder import Batch, GapNews

log = structlog.get_logger()
MOST_ROWS = 1_000_000
PAUSE = 1.0


class Keeper:
    """Writes batches in their order. ``put`` never blocks."""

    def __init__(self, most_rows: int = MOST_ROWS) -> None:
        self.dropped_rows = 0
        self.written_rows = 0
        self.waiting_since: float | None = None
        self._most_rows = most_rows
        self._queue: deque[Batch] = deque()
        self._rows = 0
        self._changed = threading.Condition()
        self._ending = False
        self._thread = threading.Thread(target=self._work, name="keeper", daemon=True)

    @property
    def waiting_rows(self) -> int:
        """Readings that are not stored yet."""
        return self._rows

    def start(self) -> None:
        """Begin to write."""
        self._thread.start()

    def put(self, batch: Batch) -> None:
        """Hand a batch over."""
        with self._changed:
            self._queue.append(batch)
            self._rows += batch.rows
            if self._rows > self._most_rows:
                self._drop()
            self._changed.notify()

    def _drop(self) -> None:
        """Empty the oldest batches of their readings, and leave a gap in their place."""
        # The first batch may be in the writer's hands.
        for batch in list(self._queue)[1:]:
            if self._rows <= self._most_rows:
                return
            if not batch.rows or batch.seen is None:
                continue
            start, end = float(batch.seen.at.min()), float(batch.seen.at.max())
            for news in batch.devices:
                words = f"{batch.rows:,} readings were dropped, the database was away"
                batch.gaps.append(GapNews(news.device, start - 60.0, end, "dropped", words))
            self._rows -= batch.rows
            self.dropped_rows += batch.rows
            batch.interfaces = batch.seen = batch.state = None

    def finish(self, patience: float = 5.0) -> None:
        """Write what waits, if the database is there, and end."""
        with self._changed:
            self._ending = True
            self._changed.notify()
        self._thread.join(patience)

    def _work(self) -> None:
        while True:
            with self._changed:
                while not self._queue and not self._ending:
                    self._changed.wait()
                if not self._queue:
                    break
                batch = self._queue[0]
            rows = batch.rows
            try:
                store.write(batch)
            except (DatabaseError, InterfaceError) as error:
                if self._is_away(error):
                    if self._ending:
                        break
                    time.sleep(PAUSE)
                    continue
                # Not the connection but the contents: it would fail for ever, so it goes, and is counted.
                log.error("a batch could not be stored", rows=rows, error=str(error))
                self.dropped_rows += rows
            else:
                self.written_rows += rows
                self.waiting_since = None
            with self._changed:
                self._queue.popleft()
                self._rows -= rows
        connection.close()

    def _is_away(self, error: Exception) -> bool:
        """Whether the database is out of reach, rather than refusing this batch."""
        close_old_connections()
        try:
            connection.ensure_connection()
            with connection.cursor() as cursor:
                cursor.execute("SELECT 1")
        except (DatabaseError, InterfaceError):
            connection.close()
            if self.waiting_since is None:
                self.waiting_since = time.time()
                log.warning("the database is away, readings wait", error=str(error))
            return True
        # It is there again: a batch that met its going away deserves another try.
        first = self.waiting_since is not None or "connection" in str(error).lower() or "terminat" in str(error).lower()
        self.waiting_since = None
        return first
