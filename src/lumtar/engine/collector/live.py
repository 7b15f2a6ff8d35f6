"""Looking at a few ports every few seconds while somebody watches them, beside the polls.

Each device that is watched has a task of its own and one request on its way at a time; it is
asked less often than was wished if its answers take long. The polls do not wait for it, and
what is read here is kept apart from what they count.
"""

import asyncio
import time
from collections.abc import Callable
from contextlib import suppress

import numpy as np
import structlog
from django.db import DatabaseError, InterfaceError, close_old_connections
from numpy.typing import NDArray

from lumtar.core.counters import VOID, Counted, Snapshot
from lumtar.core.ledger import UP
from lumtar.core.live import Watched, pace
from lumtar.domain.readings import live
from lumtar.domain.readings.live import Look
from lumtar.domain.readings.models import LiveReading, LiveState
from lumtar.engine.batch import moment
from lumtar.engine.collector.targets import Target, locate, open_session
from lumtar.engine.recorder import Recorder
from lumtar.wire import ber, oids
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.session import Patience, Session
from lumtar.wire.transport import Transport

log = structlog.get_logger()

OFTEN = 0.5
PATIENCE = Patience(timeout=2.0, tries=1)
FORGET = 60.0
AT_ONCE = 15
"""Ports in one request, which then fits a datagram of 1,500 octets."""


class Live:
    """Follows what people wish to look at until it is cancelled."""

    def __init__(
        self,
        find: Callable[[int], Target | None],
        recorder: Recorder,
        transport: Transport,
        now: Callable[[], float] = time.time,
    ) -> None:
        self._find = find
        self._recorder = recorder
        self._transport = transport
        self._now = now
        self._looks: dict[int, Look] = {}
        self._tasks: dict[int, asyncio.Task[None]] = {}
        self._hurry: dict[int, asyncio.Event] = {}
        self._readings: list[LiveReading] = []
        self._states: list[LiveState] = []
        self._forgotten = 0.0

    @property
    def devices(self) -> int:
        """So many devices are looked at now."""
        return len(self._tasks)

    async def run(self) -> None:
        """Take up wishes and keep what was read, twice a second."""
        try:
            while True:
                try:
                    looks = await asyncio.to_thread(self._exchange)
                except (DatabaseError, InterfaceError):
                    # Whether anybody still looks is not known, and what is read cannot be kept.
                    looks = {}
                self._follow(looks)
                await asyncio.sleep(OFTEN)
        finally:
            for task in self._tasks.values():
                task.cancel()

    def _exchange(self) -> dict[int, Look]:
        close_old_connections()
        readings, self._readings = self._readings, []
        states, self._states = self._states, []
        if readings or states:
            live.keep(readings, states)
        if time.monotonic() - self._forgotten > FORGET:
            live.forget_old()
            self._forgotten = time.monotonic()
        return live.wanted()

    def _follow(self, looks: dict[int, Look]) -> None:
        before, self._looks = self._looks, looks
        self._tasks = {device: task for device, task in self._tasks.items() if not task.done()}
        self._hurry = {device: event for device, event in self._hurry.items() if device in self._tasks}
        for device, look in looks.items():
            if device not in self._tasks:
                self._hurry[device] = asyncio.Event()
                self._tasks[device] = asyncio.create_task(self._watch(device, self._hurry[device]))
            elif device in before and look.every_s < before[device].every_s:
                self._hurry[device].set()

    async def _watch(self, device: int, hurry: asyncio.Event) -> None:
        """Look at one device until nobody wishes it any more; who wishes to look more often does not wait for the next look."""
        session: Session | None = None
        watched: Watched | None = None
        ports: dict[int, int] = {}
        silent = 0
        while (look := self._looks.get(device)) and (target := self._find(device)):
            began, words = time.monotonic(), ""
            try:
                if session is None:
                    await locate(target)
                    session = open_session(target, self._transport, PATIENCE)
                if watched is None or ports != look.ports:
                    ports = dict(look.ports)
                    watched = Watched(self._moved(target, list(ports)), target.dating)
                counted, oper = await self._read(session, target, list(ports), watched)
                self._note(counted, oper, list(ports.values()))
                silent = 0
            except Fault as fault:
                silent += 1
                words, session = fault.words, None
            except Exception:
                # A surprise at one device must not end the looks at others; the log has the details.
                log.exception("looking failed", device=target.device.name)
                silent += 1
                words, session = "answered with something that Lumtar did not expect (details are in the log)", None
            took = time.monotonic() - began
            pause = pace(look.every_s, 0.0 if words else took, silent)
            self._states.append(
                LiveState(
                    device_id=device, at=moment(self._now()), every_s=pause, took_ms=round(1000 * took, 1), words=words
                )
            )
            hurry.clear()
            with suppress(TimeoutError):
                async with asyncio.timeout(max(0.0, pause - took)):
                    await hurry.wait()

    def _moved(self, target: Target, indexes: list[int]) -> NDArray[np.bool_]:
        """Whether the polls found traffic on them."""
        moved = self._recorder.ledger.state.moved
        return np.array([bool(moved[target.slot_of[index]]) if index in target.slot_of else False for index in indexes])

    async def _read(
        self, session: Session, target: Target, indexes: list[int], watched: Watched
    ) -> tuple[Counted, list[int]]:
        session.start_over()
        uptime, counters = -1, np.zeros((len(indexes), 12), np.uint64)
        present, wide, oper = [], [], []
        for start in range(0, len(indexes), AT_ONCE):
            part = indexes[start : start + AT_ONCE]
            columns = (self._columns(target, index) for index in part)
            asked = [
                prefix + ber.subidentifiers([index])
                for index, prefixes in zip(part, columns, strict=True)
                for prefix in prefixes
            ]
            binds = await session.get([oids.SYS_UPTIME, *asked])
            numbers = [
                value if tag not in ber.ABSENT and isinstance(value, int) else None
                for tag, value in zip(binds.tags, binds.values, strict=True)
            ]
            uptime = numbers[0] if numbers[0] is not None else -1
            for row in range(len(part)):
                clocks, into, out = numbers[1 + 3 * row : 4 + 3 * row]
                oper.append(clocks or 4)
                present.append(into is not None and out is not None)
                wide.append(self._columns(target, part[row])[1] == oids.IF_HC_IN_OCTETS)
                counters[start + row, :2] = into or 0, out or 0
        if not any(present):
            raise Fault(FaultKind.NO_ACCESS, "answered, but gives no octet counters for these ports")
        n = len(indexes)
        snapshot = Snapshot(
            np.full(n, self._now()),
            np.full(n, uptime, np.int64),
            np.zeros(n, np.int64),
            counters,
            np.array(present),
            np.array(wide),
        )
        state = self._recorder.ledger.state
        speeds = [state.port_bps[target.slot_of[index]] if index in target.slot_of else 0 for index in indexes]
        return watched.take(snapshot, np.array(oper) == UP, np.array(speeds, np.float64)), oper

    def _columns(self, target: Target, index: int) -> tuple[bytes, bytes, bytes]:
        """State and octet counters; the 32-bit ones where the polls found no others."""
        slot = target.slot_of.get(index)
        state = self._recorder.ledger.state
        if slot is not None and state.present[slot] and not state.wide[slot]:
            return oids.IF_OPER_STATUS, oids.IF_IN_OCTETS, oids.IF_OUT_OCTETS
        return oids.IF_OPER_STATUS, oids.IF_HC_IN_OCTETS, oids.IF_HC_OUT_OCTETS

    def _note(self, counted: Counted, oper: list[int], ports: list[int]) -> None:
        at = moment(self._now())
        for row, port in enumerate(ports):
            if counted.flags[row] & VOID:
                continue
            into, out = (int(octets) for octets in counted.deltas[row, :2])
            self._readings.append(
                LiveReading(
                    interface_id=port,
                    at=at,
                    elapsed_ms=int(counted.elapsed_ms[row]),
                    in_octets=into,
                    out_octets=out,
                    flags=int(counted.flags[row]),
                    oper=oper[row],
                )
            )
