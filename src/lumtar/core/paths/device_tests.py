"""Tests that devices make themselves (DISMAN-PING-MIB, RFC 4560): from the history of single probes to intervals of a path."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta, timezone

import numpy as np

from lumtar.core.paths.statistics import Answers

INTERVAL_S = 60
GRACE_S = 30.0
"""So long after its end an interval is closed; a device may write down its probes late."""
RESPONSE_RECEIVED, UNKNOWN, INTERNAL_ERROR, TOO_MANY = 1, 2, 3, 9
NOT_SENT = (UNKNOWN, INTERNAL_ERROR, TOO_MANY)
"""Results of probes that never left the device."""
REASONS = {
    4: "requests time out", 5: "the device does not know the target's address", 6: "the device has no route to the target",
    7: "the device's interface towards the target is down", 8: "the target's hardware address cannot be found",
    10: "the device cannot resolve the target's name", 11: "the target's address is not valid",
}  # fmt: skip
"""OperationResponseStatus (RFC 4560 section 4.1), where something is to be mended."""


@dataclass(frozen=True, slots=True)
class DeviceTest:
    """A test that a device has: whose it is, what it is called, whom it asks, and how many probes it remembers."""

    owner: str
    name: str
    target: str
    remembers: int


@dataclass(frozen=True, slots=True)
class DeviceProbe:
    """One probe of a test's history: its number, OperationResponseStatus, milliseconds, and the device's time for it if it has one."""

    number: int
    status: int
    ms: int
    told_at: float | None


def told_time(octets: bytes) -> float | None:
    """Seconds of the epoch of a DateAndTime (RFC 2579); without a time zone it is taken to be UTC. None if it is none."""
    if len(octets) not in (8, 11):
        return None
    year, zone = int.from_bytes(octets[:2]), UTC
    try:
        if len(octets) == 11:
            away = timedelta(hours=octets[9], minutes=octets[10])
            zone = timezone(-away if octets[8:9] == b"-" else away)
        whole = datetime(
            year, octets[2], octets[3], octets[4], octets[5], min(octets[6], 59), octets[7] * 100_000, zone
        )
        return whole.timestamp()
    except (ValueError, OverflowError):
        return None


@dataclass(slots=True)
class Following:
    """A test that is followed.

    Attributes
    ----------
    newest : the number of the last probe that was taken
    stored_until : seconds of the epoch until which intervals are stored
    ahead_s : by how much the device's clock is ahead of ours, as far as it is known
    """

    newest: int = 0
    stored_until: float = 0.0
    ahead_s: float | None = None
    reason: str = ""
    _open: list[tuple[float, DeviceProbe]] = field(default_factory=list)

    def take(self, history: Sequence[DeviceProbe], now: float) -> None:
        """Take what a device remembers just now, in the order of the probes' numbers."""
        if history and history[-1].number < self.newest:
            # The device began to count anew.
            self.newest = 0
        fresh = [probe for probe in history if probe.number > self.newest]
        if not fresh:
            return
        self.newest, last = fresh[-1].number, fresh[-1]
        if last.told_at is not None:
            # A probe is not from the future, so the device's clock is ahead at least by this.
            self.ahead_s = last.told_at - now if self.ahead_s is None else max(self.ahead_s, last.told_at - now)
        self._open += [(self._at(probe, last, now), probe) for probe in fresh if probe.status not in NOT_SENT]
        self.reason = REASONS.get(last.status, "")

    def _at(self, probe: DeviceProbe, last: DeviceProbe, now: float) -> float:
        """When a probe was sent, by our clock."""
        if probe.told_at is None or self.ahead_s is None:
            return now
        return min(probe.told_at - self.ahead_s, now)

    def closed(self, now: float) -> list[tuple[int, Answers]]:
        """The begins of intervals that have closed since the last time, and their probes."""
        until = (now - GRACE_S) // INTERVAL_S * INTERVAL_S
        grouped: dict[int, list[DeviceProbe]] = {}
        still_open = []
        for at, probe in self._open:
            # What comes later than its interval was stored counts for the next one.
            begin = int(max(at, self.stored_until) // INTERVAL_S * INTERVAL_S)
            if begin < until:
                grouped.setdefault(begin, []).append(probe)
            else:
                still_open.append((at, probe))
        self._open = still_open
        self.stored_until = max(self.stored_until, float(until))
        return [(begin, _answers(probes)) for begin, probes in sorted(grouped.items())]

    @property
    def taken_until(self) -> int:
        """The number of the last probe of those intervals that have closed; later ones are read again after a start."""
        return min((probe.number for _, probe in self._open), default=self.newest + 1) - 1


def _answers(probes: Sequence[DeviceProbe]) -> Answers:
    trips = np.array([1000.0 * probe.ms if probe.status == RESPONSE_RECEIVED else np.nan for probe in probes])
    came = ~np.isnan(trips)
    unknown = np.full(len(trips), np.nan)
    return Answers(trips, np.where(came, np.cumsum(came) - 1, -1), unknown, unknown)
