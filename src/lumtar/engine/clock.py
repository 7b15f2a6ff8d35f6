"""The time of a service: it goes on evenly, and tells when the machine's clock was set."""

import time
from collections.abc import Callable

STEP_S = 1.0
"""A difference of more than this between the machine's clock and what has elapsed is a step."""


class Clock:
    """Seconds of the epoch that follow the monotonic clock.

    A machine's clock can be set back and forth; what has elapsed cannot. :meth:`step` takes a step over, and whoever keeps
    times moves them along.
    """

    def __init__(self, wall: Callable[[], float] = time.time, monotonic: Callable[[], float] = time.monotonic) -> None:
        self._wall, self._monotonic = wall, monotonic
        self._offset = wall() - monotonic()
        self.steps = 0
        self.last_step_s = 0.0
        self.stepped_at: float | None = None

    def time(self) -> float:
        """Seconds of the epoch."""
        return self._offset + self._monotonic()

    def step(self) -> float:
        """Follow the machine's clock; returns the seconds of a step, 0.0 if there was none.

        What is less than a step, as a time server makes it, is followed without a word.
        """
        off = self._wall() - self.time()
        self._offset += off
        if abs(off) < STEP_S:
            return 0.0
        self.steps += 1
        self.last_step_s, self.stepped_at = off, self.time()
        return off
