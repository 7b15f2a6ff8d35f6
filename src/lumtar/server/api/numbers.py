"""Numbers of the computation as JSON has them: what is not known is null."""

import numpy as np
from numpy.typing import NDArray


def known(value: float) -> float | None:
    """A number, or nothing if it is not known or without an end."""
    return value if np.isfinite(value) else None


def known_values(values: NDArray[np.float64]) -> list[float | None]:
    """A column of numbers."""
    return [known(each) for each in values.tolist()]
