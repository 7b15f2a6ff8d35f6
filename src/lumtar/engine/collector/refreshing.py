"""Learning beside the polls how each agent refreshes its counters, and staying in step with it."""

import asyncio
import time
from collections.abc import Mapping

import numpy as np
import structlog

from lumtar.core.refresh import Kind, Refresh
from lumtar.core.refresh_learning import Look, Reads, learn, sync
from lumtar.domain.inventory import refreshes
from lumtar.domain.inventory.models import Device
from lumtar.engine.clock import Clock
from lumtar.engine.collector.targets import Target, locate, open_session
from lumtar.engine.recorder import Recorder
from lumtar.engine.service import AWAY, with_database
from lumtar.wire import ber, oids
from lumtar.wire.faults import Fault
from lumtar.wire.session import Patience, Session
from lumtar.wire.transport import Transport

log = structlog.get_logger()
PATIENCE = Patience(timeout=2.0, tries=1)
LOOK_S = 0.25
AT_ONCE = 64
"""Devices that are looked at side by side."""
BUSY_PACKETS = 50.0
"""Packets a second that the counters which are read must count: each refresh changes them then."""
MOST_PORTS = 4
NEWS = 0.002
"""The share by which a period has to differ from what is kept of it to be kept anew."""
RECHECK_S = 86_400.0
"""Seconds after which it is found out anew, whether an agent still does as it did; up to twice as many."""
AGAIN_S, LATEST_S = 60.0, 6 * 3600.0
"""Seconds until it is tried again where nothing could be learnt: each time twice as many, up to the second."""


class Refreshing:
    """Follows the agents of all devices that are polled until it is cancelled."""

    def __init__(
        self,
        targets: Mapping[int, Target],
        recorder: Recorder,
        transport: Transport,
        clock: Clock,
    ) -> None:
        self._targets = targets
        self._recorder = recorder
        self._transport = transport
        self._clock = clock
        self._tasks: dict[int, asyncio.Task[None]] = {}
        self._waits: dict[int, float] = {}
        self._kept: dict[int, Refresh] = {}

    async def run(self) -> None:
        """Begin what is due."""
        try:
            while True:
                self._tasks = {number: task for number, task in self._tasks.items() if not task.done()}
                now = time.monotonic()
                for number, target in list(self._targets.items()):
                    if len(self._tasks) >= AT_ONCE:
                        break
                    if target.refresh_due <= now and number not in self._tasks:
                        self._begin(target, now)
                await asyncio.sleep(LOOK_S)
        finally:
            for task in self._tasks.values():
                task.cancel()

    def _begin(self, target: Target, now: float) -> None:
        """Look at a device if there is something to find out, and a port that is busy enough for that."""
        if target.device.way != Device.Way.SNMP:
            target.refresh_due = float("inf")
            return
        if target.refresh_due == 0.0 and target.dating.refresh.kind in (Kind.AT_ONCE, Kind.ON_DEMAND):
            # It is known from before this collector was started.
            target.refresh_due = now + self._spread(target)
            return
        if not (ports := self._busiest(target)):
            target.refresh_due = now + max(5.0, target.device.interval_s)
            return
        self._tasks[target.device.pk] = asyncio.create_task(self._look(target, self._columns(target, ports)))

    @staticmethod
    def _spread(target: Target) -> float:
        """Seconds until what does not need to be followed is looked at again; not of all devices at once."""
        return RECHECK_S * (1 + target.device.pk % 100 / 100)

    def _busiest(self, target: Target) -> list[int]:
        """The ifIndex of the ports that carry most packets; none if they are too few."""
        indexes, slots = list(target.slot_of), np.array(list(target.slot_of.values()), np.int64)
        if not len(slots):
            return []
        packets = np.nan_to_num(self._recorder.ledger.state.packets[slots])
        busiest = np.argsort(-packets)[:MOST_PORTS]
        return [indexes[place] for place in busiest] if packets[busiest].sum() >= BUSY_PACKETS else []

    async def _look(self, target: Target, asked: list[bytes]) -> None:
        before, steps = target.dating.refresh, self._clock.steps
        number = target.device.pk
        try:
            await locate(target)
            session = open_session(target, self._transport, PATIENCE)
            begin = self._clock.time()
            reads = sync(before, begin) if before.kind is Kind.TICKS else learn(begin)
            after = await self._carry_out(reads, session, asked)
        except Fault:
            # The polls say what is wrong with it.
            target.refresh_due = time.monotonic() + max(10.0, target.device.interval_s)
            return
        except Exception:
            # A surprise at one device must not end the looks at others; the log has the details.
            log.exception("looking for refreshes failed", device=target.device.name)
            target.refresh_due = time.monotonic() + AGAIN_S
            return
        if steps != self._clock.steps:
            # The clock was set meanwhile: what was seen belongs to none of its times.
            target.refresh_due = time.monotonic()
            return
        target.dating.refresh = after
        if after.kind is Kind.TICKS:
            target.refresh_due = time.monotonic() + after.sync_after_s
        elif after.kind is Kind.UNKNOWN:
            wait = self._waits[number] = min(LATEST_S, 2 * self._waits.get(number, AGAIN_S / 2))
            target.refresh_due = time.monotonic() + wait
        else:
            target.refresh_due = time.monotonic() + self._spread(target)
        kept = self._kept.get(number, before)
        if after.kind is kept.kind and abs(after.period - kept.period) <= NEWS * kept.period:
            return
        log.info("counters are refreshed", device=target.device.name, kind=after.kind, period_s=round(after.period, 3))
        self._kept[number] = after
        try:
            await asyncio.to_thread(with_database, lambda: refreshes.keep(number, after))
        except AWAY as error:
            log.warning("what was learnt could not be kept", device=target.device.name, error=str(error))

    def _columns(self, target: Target, ports: list[int]) -> list[bytes]:
        """The octet counters of these ports; the 32-bit ones where the polls found no others."""
        state = self._recorder.ledger.state
        asked = []
        for index in ports:
            is_wide = bool(state.wide[target.slot_of[index]])
            row = ber.subidentifiers([index])
            asked.append((oids.IF_HC_IN_OCTETS if is_wide else oids.IF_IN_OCTETS) + row)
            asked.append((oids.IF_HC_OUT_OCTETS if is_wide else oids.IF_OUT_OCTETS) + row)
        return asked

    async def _carry_out(self, reads: Reads, session: Session, asked: list[bytes]) -> Refresh:
        look: Look | None = None
        while True:
            try:
                due = next(reads) if look is None else reads.send(look)
            except StopIteration as done:
                found: Refresh = done.value
                return found
            await asyncio.sleep(max(0.0, due - self._clock.time()))
            sent = self._clock.time()
            binds = await session.get(asked)
            values = tuple(
                value if tag not in ber.ABSENT and isinstance(value, int) else -1
                for tag, value in zip(binds.tags, binds.values, strict=True)
            )
            look = Look(sent, self._clock.time(), values)
