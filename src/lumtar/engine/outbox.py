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
    """Rows for a partitioned table.

    Parameters
    ----------
    append : stores rows under the number of their batch
    most : rows that wait
    field, seconds : the field that says in which partition a row belongs, and how many seconds of the epoch one of it is
    """

    def __init__(
        self,
        table: Partitioned,
        append: Callable[[Rows, UUID], Any],
        most: int,
        field: str = "minute",
        seconds: float = 60.0,
    ) -> None:
        self.written = self.dropped = 0
        self._table, self._append, self._most, self._field, self._seconds = table, append, most, field, seconds
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
            at = self._seconds * rows[self._field]
            self._table.ensure(*(datetime.fromtimestamp(float(each), UTC) for each in (at.min(), at.max())))
            self._append(rows, batch)
            self.written += len(self._batches.popleft()[1])
        return is_any
