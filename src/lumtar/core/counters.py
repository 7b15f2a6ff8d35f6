"""From two snapshots of counters to what was counted between them.

What is stored is what was counted (deltas and elapsed time), never a rate: volumes then add
up exactly, and the calculation of every figure can be shown. See RFC 2863 section 3.1.6 (counter
sizes), and ifCounterDiscontinuityTime and sysUpTime (RFC 3418) for what makes a delta void.
"""

from dataclasses import dataclass, field
from enum import IntFlag

import numpy as np
from numpy.typing import NDArray

COUNTERS = (
    "in_octets",
    "out_octets",
    "in_unicast",
    "in_multicast",
    "in_broadcast",
    "out_unicast",
    "out_multicast",
    "out_broadcast",
    "in_errors",
    "out_errors",
    "in_discards",
    "out_discards",
)
"""Order of the columns in every array of counters. The last four are Counter32 on every device."""

IN_OCTETS, OUT_OCTETS = 0, 1
IN_UNICAST, OUT_UNICAST = 2, 5
IN_PACKETS, OUT_PACKETS = slice(2, 5), slice(5, 8)
HIGH_CAPACITY = 8
"""The first so many columns exist as 64-bit counters."""

TICKS = 2**32
"""sysUpTime counts hundredths of a second modulo this."""

GAP = 2.5
"""A reading over more than so many intervals spans a gap."""

MAX_HOLDS = 2
"""So many polls in a row a busy interface may stand still before the silence is believed."""

SLACK_OCTETS = 2_000_000
"""Octets allowed above line speed: a device's reading of its counters is not one instant."""

FASTEST_BPS = 1.6e12
"""Taken for the line speed where it is unknown, in bits per second; no counter moves faster."""


class Flag(IntFlag):
    """What is to be known about one reading."""

    NONE = 0
    FIRST = 1
    """Nothing to compare with: the interface was polled for the first time."""
    RESTARTED = 2
    """The device restarted since the last poll; what was counted before is not known."""
    DISCONTINUITY = 4
    """The device says that its counters jumped (ifCounterDiscontinuityTime)."""
    WRAPPED = 8
    """A counter passed its end and began again at zero."""
    BRIDGED = 16
    """The reading spans a gap: its volume is exact, its rate is a mean over the gap."""
    NARROW = 32
    """Counted by 32-bit counters."""
    RISKY = 64
    """At line speed a 32-bit counter can wrap more than once in this time."""
    HELD = 128
    """A busy interface stood still: the device had not refreshed its counters, the next reading covers this one."""
    OWN_CLOCK = 256
    """sysUpTime and the collector's clock disagree; the collector's was used."""
    IMPLAUSIBLE = 512
    """Counters moved backwards by more than the line can carry: they were set back unannounced."""
    MISSING = 1024
    """The device gave no octet counters."""
    DATED = 2048
    """The device refreshes its counters now and then: the time is that from one refresh to another."""


VOID = Flag.FIRST | Flag.RESTARTED | Flag.DISCONTINUITY | Flag.IMPLAUSIBLE | Flag.MISSING | Flag.HELD
"""A reading with any of these has counted nothing."""


UNDATED = np.zeros(0)
"""Stands for devices that count at once."""
SAME_REFRESH = 0.25
"""Dates that are less than this share of a period apart are the same refresh."""


@dataclass(frozen=True, slots=True)
class Snapshot:
    """Counters of n interfaces as they were read.

    Attributes
    ----------
    at : (n,) seconds of the epoch by the collector's clock, when the answer came
    uptime : (n,) sysUpTime in hundredths of a second; -1 where it is not known
    discontinuity : (n,) ifCounterDiscontinuityTime in hundredths of a second; 0 where not given
    counters : (n, 12) in the order of COUNTERS
    present : (n,) whether octet counters were given
    wide : (n,) whether the first eight columns are 64 bits wide
    counted_at : (n,) seconds of the epoch when the device had refreshed its counters; NaN if it counts at once, or not known
    refresh_s : (n,) seconds between its refreshes where that can be told (see core/refresh.py); else 0
    """

    at: NDArray[np.float64]
    uptime: NDArray[np.int64]
    discontinuity: NDArray[np.int64]
    counters: NDArray[np.uint64]
    present: NDArray[np.bool_]
    wide: NDArray[np.bool_]
    counted_at: NDArray[np.float64] = field(default_factory=lambda: UNDATED)
    refresh_s: NDArray[np.float64] = field(default_factory=lambda: UNDATED)

    def __post_init__(self) -> None:
        n = len(self.at)
        if self.counted_at is UNDATED:
            object.__setattr__(self, "counted_at", np.full(n, np.nan))
        if self.refresh_s is UNDATED:
            object.__setattr__(self, "refresh_s", np.zeros(n))


@dataclass(frozen=True, slots=True)
class Counted:
    """What was counted between two snapshots.

    Attributes
    ----------
    deltas : (n, 12) in the order of COUNTERS; 0 where nothing could be counted
    elapsed_ms : (n,) milliseconds that the deltas cover; 0 where nothing could be counted
    flags : (n,) bits of Flag
    """

    deltas: NDArray[np.int64]
    elapsed_ms: NDArray[np.int32]
    flags: NDArray[np.int16]


def elapsed(before: Snapshot, after: Snapshot) -> tuple[NDArray[np.float64], NDArray[np.bool_], NDArray[np.bool_]]:
    """Time between two snapshots, and whether the device restarted in it.

    The device's own clock is preferred: it was read together with the counters, while the
    collector's includes the network's delay. It wraps after 497 days.

    Returns
    -------
    seconds : (n,)
    restarted : (n,)
    own_clock : (n,) where the collector's clock had to be used
    """
    wall = after.at - before.at
    known = (before.uptime >= 0) & (after.uptime >= 0)
    device = np.mod(after.uptime - before.uptime, TICKS) / 100.0
    tolerance = np.maximum(2.0, 0.05 * wall)
    agrees = known & (np.abs(device - wall) <= tolerance) & (device > 0)
    restarted = known & ~agrees & (after.uptime < before.uptime)
    return np.where(agrees, device, wall), restarted, ~agrees & ~restarted


def count(
    before: Snapshot,
    after: Snapshot,
    *,
    first: NDArray[np.bool_],
    interval: NDArray[np.float64],
    speed_bps: NDArray[np.float64],
    moved: NDArray[np.bool_],
    holds: NDArray[np.int16],
    is_up: NDArray[np.bool_],
) -> Counted:
    """What n interfaces counted between two snapshots of the same interfaces.

    Parameters
    ----------
    first : (n,) there is no earlier snapshot; ``before`` is not looked at
    interval : (n,) seconds between polls as planned
    speed_bps : (n,) the port's own speed (not a sold one), 0 where unknown
    moved : (n,) whether the last accepted reading had counted anything
    holds : (n,) how many polls in a row were held back already
    is_up : (n,) ifOperStatus is up
    """
    seconds, restarted, own_clock = elapsed(before, after)
    restarted &= ~first
    modulus_bits = np.where(before.wide & after.wide, 64, 32)
    raw = after.counters - before.counters
    deltas = raw.copy()
    deltas[:, HIGH_CAPACITY:] &= np.uint64(0xFFFFFFFF)
    narrow = modulus_bits == 32
    deltas[narrow] &= np.uint64(0xFFFFFFFF)
    backwards = after.counters < before.counters
    wrapped = backwards.any(axis=1)
    unmoved = (deltas == 0).all(axis=1)

    # Comparisons with NaN are false: what has no date on either side goes by the clocks.
    span, least = after.counted_at - before.counted_at, SAME_REFRESH * after.refresh_s
    dated = (after.refresh_s > 0) & (span >= least) & ~first
    not_refreshed = (after.refresh_s > 0) & (span < least) & unmoved & ~first
    unsure = (after.refresh_s > 0) & np.isnan(after.counted_at) & (holds < MAX_HOLDS) & ~first
    seconds = np.where(first, 0.0, np.where(dated, span, seconds))

    line = np.where(speed_bps > 0, speed_bps, FASTEST_BPS)
    possible = line * seconds / 8.0
    # What moved forwards is believed beyond the stated speed (virtual interfaces state any speed);
    # what moved backwards was a wrap only if the line can carry it, else the counter was set back.
    limit = np.where(backwards[:, :HIGH_CAPACITY], possible[:, None], FASTEST_BPS * seconds[:, None] / 8.0)
    implausible = (deltas[:, :HIGH_CAPACITY] > 1.5 * limit + SLACK_OCTETS).any(axis=1)
    implausible |= (deltas[:, HIGH_CAPACITY:] > np.uint64(2**31)).any(axis=1)
    # Of two widths only one can be compared with the other: the change itself is a first poll.
    changed_width = before.wide != after.wide
    jumped = after.discontinuity != before.discontinuity
    missing = ~(before.present & after.present)
    risky = narrow & (possible >= 2.0**32)
    bridged = seconds > GAP * np.maximum(interval, after.refresh_s)
    started = first | changed_width

    void = started | restarted | jumped | missing | implausible | (risky & bridged) | (seconds <= 0)
    still = ~void & unmoved
    held = (still & moved & is_up & (holds < MAX_HOLDS)) | (~void & (not_refreshed | unsure))

    flags = np.zeros(len(seconds), np.int16)
    for condition, flag in (
        (started, Flag.FIRST),
        (restarted, Flag.RESTARTED),
        (jumped & ~first & ~restarted, Flag.DISCONTINUITY),
        (~after.present, Flag.MISSING),
        (implausible & ~first & ~restarted & ~jumped & ~missing & ~changed_width, Flag.IMPLAUSIBLE),
        (~void & wrapped, Flag.WRAPPED),
        (bridged & ~first & ~restarted, Flag.BRIDGED),
        (~after.wide, Flag.NARROW),
        (risky & ~first, Flag.RISKY),
        (held, Flag.HELD),
        (dated & ~void, Flag.DATED),
        (own_clock & ~first, Flag.OWN_CLOCK),
    ):
        flags[condition] |= np.int16(flag)
    nothing = void | held
    deltas[nothing] = 0
    milliseconds = np.where(nothing, 0, np.minimum(np.rint(seconds * 1000), 2**31 - 1))
    return Counted(deltas.astype(np.int64), milliseconds.astype(np.int32), flags)
