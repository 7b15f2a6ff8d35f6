"""The speed of an interface, and where it came from (RFC 2863, ifSpeed and ifHighSpeed)."""

from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from lumtar.core.measures.rates import over

SATURATED = 4_294_967_295
"""ifSpeed of an interface that is too fast for it."""


class SpeedSource(StrEnum):
    """Where a speed came from."""

    OVERRIDE = "override"
    HIGH_SPEED = "ifHighSpeed"
    SPEED = "ifSpeed"
    UNKNOWN = "unknown"
    EXCEEDED = "exceeded"
    """The port states a speed that it exceeds beyond doubt, so nothing is measured against it."""


NOT_CREDIBLE = 3
"""Readings in a row above the stated speed after which it is not believed any more."""
ABOVE = 1.2
"""So many times its speed a port cannot carry: in one reading it may seem to, if the device renews its counters seldom."""
FAR_ABOVE = 2.5
"""Beyond this not even that explains one reading: polls fetch at most two renewals' worth and a half."""


def excess_after(
    before: NDArray[np.int16], rate_bps: NDArray[np.float64], port_bps: NDArray[np.int64]
) -> NDArray[np.int16]:
    """How often in a row the stated speed was exceeded, after one more reading; NOT_CREDIBLE stays until the speed changes.

    Parameters
    ----------
    rate_bps : (n,) the faster direction; NaN is no rate, and changes nothing
    port_bps : (n,) as the port states it, 0 where it does not
    """
    times = over(rate_bps, port_bps)
    known = ~np.isnan(times)
    counted = np.where(times > FAR_ABOVE, NOT_CREDIBLE, np.where(times > ABOVE, before + 1, 0))
    return np.where(known & (before < NOT_CREDIBLE), np.minimum(counted, NOT_CREDIBLE), before).astype(np.int16)


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


def chosen(
    port_bps: int, from_high_speed: bool, override_bps: int | None, *, is_credible: bool = True
) -> tuple[int, SpeedSource]:
    """The speed that one direction is measured against: the one that somebody set, else the port's if it can be believed."""
    if override_bps:
        return override_bps, SpeedSource.OVERRIDE
    if not is_credible:
        return 0, SpeedSource.EXCEEDED
    if port_bps <= 0:
        return 0, SpeedSource.UNKNOWN
    return port_bps, SpeedSource.HIGH_SPEED if from_high_speed else SpeedSource.SPEED
