"""Places in arrays that have one entry a subject: what goes gives its place back to what comes."""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray


@dataclass(slots=True)
class Slots:
    """Who has which place.

    Attributes
    ----------
    size : places that were ever in use
    free : of these, those that nobody has now
    """

    size: int = 0
    free: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))

    def take(self, number: int) -> NDArray[np.int64]:
        """So many places: first those that others had."""
        again, self.free = self.free[:number], self.free[number:]
        first, self.size = self.size, self.size + number - len(again)
        return np.concatenate([again, np.arange(first, self.size)])

    def give_back(self, slots: NDArray[np.int64]) -> None:
        """Nobody has these places any more."""
        self.free = np.union1d(self.free, slots)
