"""Writing what was computed in threads beside, while the next part is computed."""

import queue
import threading
from collections.abc import Callable

from django.db import connection


class Writer:
    """Threads that write while the next day is computed; an error in one of them surfaces at the next call."""

    def __init__(self, threads: int = 2) -> None:
        self._work: queue.Queue[Callable[[], None] | None] = queue.Queue(maxsize=threads)
        self._error: BaseException | None = None
        self._threads = [threading.Thread(target=self._run, daemon=True) for _ in range(threads)]
        for thread in self._threads:
            thread.start()

    def _run(self) -> None:
        while (work := self._work.get()) is not None:
            if self._error is None:
                try:
                    work()
                except BaseException as error:  # noqa: BLE001
                    self._error = error
        connection.close()

    def put(self, work: Callable[[], None]) -> None:
        """Hand work over."""
        if self._error:
            raise self._error
        self._work.put(work)

    def finish(self) -> None:
        """Wait for everything."""
        for _ in self._threads:
            self._work.put(None)
        for thread in self._threads:
            thread.join()
        if self._error:
            raise self._error
