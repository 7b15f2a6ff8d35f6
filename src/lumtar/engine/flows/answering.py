"""Response times on their way to the database: added up by minute until that has closed."""

import numpy as np

from lumtar.core.flows import response_times
from lumtar.core.flows.response_times import RESPONSES, Responses

GRACE_MINUTES = 2
"""Minutes after its end for which a minute stays open."""
KEPT_ONE_BY_ONE = 2_000
"""Servers (by application, clients' site and exporter) of a minute that are kept; the others are put together."""
MOST_PARTS, MOST_ROWS = 200, 500_000
"""Beyond so many rows in open minutes the oldest of these is closed early."""


class Answering:
    """Open minutes."""

    def __init__(self) -> None:
        self._parts: list[Responses] = []

    def add(self, rows: Responses) -> None:
        """Take rows over."""
        if len(rows):
            self._parts.append(rows)
            if len(self._parts) > MOST_PARTS:
                self._parts = [response_times.added(self._parts)]

    def closed(self, now: float, *, whole: bool = False) -> Responses:
        """The rows of minutes that have closed; with ``whole`` of those that are open as well."""
        rows = response_times.added(self._parts)
        last = int(now // 60) - GRACE_MINUTES
        if len(rows) > MOST_ROWS:
            last = max(last, int(rows["minute"].min()) + 1)
        is_ready = np.full(len(rows), whole) | (rows["minute"] < last)
        self._parts = [rows[~is_ready]]
        ready = rows[is_ready]
        return np.concatenate(
            [np.zeros(0, RESPONSES)]
            + [
                response_times.largest(ready[ready["minute"] == each], KEPT_ONE_BY_ONE)
                for each in np.unique(ready["minute"])
            ]
        )
