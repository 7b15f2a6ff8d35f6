"""Records that somebody wants to see one by one, on their way to the database."""

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.flows.records import Records
from lumtar.domain.flows import recording
from lumtar.domain.flows.recording import Wanted

MOST_A_SECOND, MOST_AT_ONCE = 10_000, 100_000
"""Records that are kept one by one, on the average and when many exporters tell at once; of more the first are."""


class Recorder:
    """Keeps the records of whoever is wanted until they are stored."""

    def __init__(self) -> None:
        self.wanted = Wanted()
        self.kept = self.left_out = 0
        self._waiting: list[NDArray[np.void]] = []
        self._room = MOST_AT_ONCE

    def add(self, device: int, records: Records, at: float, more: Mapping[str, NDArray[Any]]) -> None:
        """Take records over, if anybody wants them, as many as there is room for."""
        if device not in self.wanted:
            return
        taken = min(len(records), self._room)
        self._room -= taken
        self.kept, self.left_out = self.kept + taken, self.left_out + len(records) - taken
        if taken:
            columns = {name: values[:taken] for name, values in more.items()}
            self._waiting.append(recording.stored_as(device, records[:taken], at, columns))

    def take(self, seconds: float) -> NDArray[np.void] | None:
        """What waits to be stored, and room for what comes in so many more seconds."""
        self._room = min(MOST_AT_ONCE, self._room + int(MOST_A_SECOND * seconds))
        waiting, self._waiting = self._waiting, []
        return np.concatenate(waiting) if waiting else None
