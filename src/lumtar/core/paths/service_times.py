"""Of what the time of a service is made up, over an interval."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from lumtar.core.paths.kinds import PARTS


@dataclass(frozen=True, slots=True)
class ServiceTimes:
    """What answers of a service came to within an interval, beside how long they took.

    Attributes
    ----------
    wrong : answers that came and were not the right ones
    lookup, connected, secured, first_octet : means in microseconds; NaN is not known
    certificate_days : until the certificate ends, as of the last answer
    """

    wrong: int = 0
    lookup: float = np.nan
    connected: float = np.nan
    secured: float = np.nan
    first_octet: float = np.nan
    certificate_days: float = np.nan


def service_times(
    parts: Sequence[Mapping[str, float]], wrong: int = 0, certificate_days: float | None = None
) -> ServiceTimes:
    """Means of what each answer's time was made up of."""
    told = {name: [each[name] for each in parts if name in each] for name in PARTS}
    means = {name: float(np.mean(values)) if values else np.nan for name, values in told.items()}
    return ServiceTimes(wrong, **means, certificate_days=np.nan if certificate_days is None else certificate_days)
