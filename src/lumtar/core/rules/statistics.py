"""What of a subject's values a rule compares with its limits; a further one is registered here."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Statistic:
    """A statistic: ``of`` takes the values of n subjects at one instant, NaN where there is none, and gives as many."""

    name: str
    words: str
    of: Callable[[NDArray[np.float64]], NDArray[np.float64]]


STATISTICS: dict[str, Statistic] = {}


def register(statistic: Statistic) -> Statistic:
    """Make a statistic known to rules."""
    STATISTICS[statistic.name] = statistic
    return statistic


VALUE = register(Statistic("value", "each value", lambda values: values))
