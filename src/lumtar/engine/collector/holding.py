"""The shares of the devices that this collector holds, and what follows when they change hands."""

import time
from collections.abc import Iterable
from uuid import uuid4

import structlog
from django.db import DatabaseError, InterfaceError

from lumtar.domain.inventory.models import Device
from lumtar.domain.operation import leases
from lumtar.domain.operation.leases import SHARES, Taken, share_of
from lumtar.domain.operation.queries import last_collected
from lumtar.domain.readings.models import Gap
from lumtar.engine.batch import GapNews

log = structlog.get_logger()
GAP_S = 90.0
"""Seconds without any collector from which on it is a gap of the whole network."""
NOT_HELD = -1
"""No fence: what carries it is refused."""


class Holding:
    """What is held under which fence. :meth:`renew` and what asks the database block."""

    every_s = leases.RENEW_S
    patience_s = leases.LEASE_S

    def __init__(self, name: str) -> None:
        self.name = name
        self.run = uuid4()
        self.held: dict[int, int] = {}
        self.surplus: list[int] = []
        self._taken: list[Taken] = []
        self._idle_since: float | None = None
        self._steady_since = float("-inf")
        self._failed = False

    def begin(self) -> None:
        """Look when anything was collected last, before it is said that this one runs."""
        last = last_collected()
        self._idle_since = last.timestamp() if last else None

    def renew(self) -> bool:
        """Renew, and take what is free. Returns whether anything came or went.

        Raises
        ------
        DatabaseError
            what was held may be another's by now: the fence will tell
        """
        now = time.monotonic()
        try:
            standing = leases.renew(self.run, self.name, now - self._steady_since >= leases.LEASE_S)
        except Exception:
            self._failed = True
            raise
        if self._failed:
            # The database was away: the others are renewing what is theirs just now.
            self._failed, self._steady_since = False, now
        changed = standing.held != self.held
        self.held, self.surplus, self._taken = standing.held, standing.surplus, standing.taken
        if changed:
            log.info("shares of the devices changed", held=len(self.held), taken=len(self._taken))
        return changed

    def holds(self, device: int) -> bool:
        """Whether a device is this collector's to poll."""
        share = share_of(device)
        return share in self.held and share not in self.surplus

    def fences(self, devices: Iterable[int]) -> dict[int, int]:
        """The fences under which something of these devices is to be stored."""
        return {share: self.held.get(share, NOT_HELD) for share in {share_of(device) for device in devices}}

    def give_surplus(self) -> None:
        """Let the others have what is more than a fair part."""
        leases.give_up(self.run, self.surplus)
        for share in self.surplus:
            self.held.pop(share, None)
        self.surplus = []

    def end(self) -> None:
        """Let the others have everything."""
        try:
            leases.give_up(self.run)
        except (DatabaseError, InterfaceError) as error:
            # Without the database the leases run out by themselves.
            log.warning("what was held could not be given up", error=str(error))

    def gaps(self, devices: Iterable[Device], now: float) -> list[GapNews]:
        """For how long nobody polled what was taken over just now, where a poll is missing, and whose it was."""
        idle, self._idle_since = self._idle_since, None
        if idle is not None and now - idle > GAP_S and len(self._taken) == SHARES:
            return [GapNews(None, idle, now, Gap.Reason.COLLECTOR, "the collector was not running")]
        since = {each.number: each for each in self._taken if each.renewed_at is not None and each.was}
        gaps = []
        for device in devices:
            taken = since.get(share_of(device.pk))
            if taken is None or taken.renewed_at is None:
                continue
            start = taken.renewed_at.timestamp()
            if now - start > device.interval_s:
                words = f"collector {taken.was} was not heard of any more, {self.name} took over"
                gaps.append(GapNews(device.pk, start, now, Gap.Reason.COLLECTOR, words))
        return gaps
