"""Rows on their way to a table: each batch once, however often that is tried; of too many that wait the oldest are dropped, and counted."""

from collections import deque
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any
from uuid import UUID, uuid4

import numpy as np
from numpy.typing import NDArray

from lumtar.domain.operation.partitioned import Partitioned

Rows = NDArray[np.void]


class Outbox:
    """Rows that have a ``minute``, for a table with a partition for it."""

    def __init__(self, table: Partitioned, append: Callable[[Rows, UUID], Any], most: int) -> None:
        self.written = self.dropped = 0
        self._table, self._append, self._most = table, append, most
        self._batches: deque[tuple[UUID, Rows]] = deque()

    @property
    def waiting(self) -> int:
        """Rows that wait."""
        return sum(len(rows) for _, rows in self._batches)

    def put(self, rows: Rows) -> None:
        """Have rows written with what waits."""
        if len(rows):
            self._batches.append((uuid4(), rows))
        while self.waiting > self._most:
            self.dropped += len(self._batches.popleft()[1])

    def write(self) -> bool:
        """Write what waits. Returns whether there was anything; a batch that fails stays."""
        is_any = bool(self._batches)
        while self._batches:
            batch, rows = self._batches[0]
            first, last = (
                datetime.fromtimestamp(60 * int(each), UTC) for each in (rows["minute"].min(), rows["minute"].max())
            )
            self._table.ensure(first, last)
            self._append(rows, batch)
            self.written += len(self._batches.popleft()[1])
        return is_any
