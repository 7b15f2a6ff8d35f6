"""The speed of an interface, and where it came from (RFC 2863, ifSpeed and ifHighSpeed)."""

from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

SATURATED = 4_294_967_295
"""ifSpeed of an interface that is too fast for it."""


class SpeedSource(StrEnum):
    """Where a speed came from."""

    OVERRIDE = "override"
    HIGH_SPEED = "ifHighSpeed"
    SPEED = "ifSpeed"
    UNKNOWN = "unknown"


def port_speed(
    high_speed_mbps: NDArray[np.int64], speed_bps: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """The port's own speed.

    ifHighSpeed is rounded to millions; where ifSpeed rounds to the same it is the exacter one.

    Returns
    -------
    bps : (n,) bits per second, 0 where the device does not say
    from_high_speed : (n,) whether ifHighSpeed decided
    """
    usable = (speed_bps > 0) & (speed_bps < SATURATED)
    agrees = usable & (np.rint(speed_bps / 1e6).astype(np.int64) == high_speed_mbps)
    from_high = (high_speed_mbps > 0) & ~agrees
    bps = np.where(from_high, high_speed_mbps * 1_000_000, np.where(usable, speed_bps, 0))
    return bps, (high_speed_mbps > 0) & (from_high | agrees)


def chosen(port_bps: int, from_high_speed: bool, override_bps: int | None) -> tuple[int, SpeedSource]:
    """The speed that one direction is measured against: the sold one if somebody set it, else the port's."""
    if override_bps:
        return override_bps, SpeedSource.OVERRIDE
    if port_bps <= 0:
        return 0, SpeedSource.UNKNOWN
    return port_bps, SpeedSource.HIGH_SPEED if from_high_speed else SpeedSource.SPEED
