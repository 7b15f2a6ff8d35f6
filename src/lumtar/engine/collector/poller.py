"""Polling one device: reading it, taking over what it says of itself, and a plain reason if that fails."""

import asyncio
from collections import Counter
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import structlog
from numpy.typing import NDArray

from lumtar.core.components import KINDS
from lumtar.core.counters import Snapshot
from lumtar.core.profiles import Recognition
from lumtar.core.refresh import Refresh
from lumtar.core.rows import take_rows
from lumtar.domain.inventory import lately
from lumtar.domain.inventory.description import KnownComponent, describe, is_known
from lumtar.domain.inventory.models import Device
from lumtar.engine.batch import ComponentValue, moment
from lumtar.engine.clock import Clock
from lumtar.engine.collector import targets
from lumtar.engine.collector.components import SELDOM
from lumtar.engine.collector.reading import Discovery, Polled, poll
from lumtar.engine.collector.targets import Target
from lumtar.engine.recorder import Answer, Recorder
from lumtar.engine.service import AWAY, with_database
from lumtar.engine.store import passes
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.icmp import Pinger
from lumtar.wire.session import Exchange, Patience, Session
from lumtar.wire.tcp import connect
from lumtar.wire.transport import Transport

log = structlog.get_logger()
LONGEST_POLL = 300.0


class Poller:
    """Polls devices with one transport; what they say of themselves goes to the database and the recorder."""

    def __init__(
        self,
        transport: Transport,
        pinger: Pinger,
        recorder: Recorder,
        clock: Clock,
        counts: Counter[str],
        recognitions: Callable[[], list[Recognition]],
    ) -> None:
        self.transport = transport
        self.pinger = pinger
        self.recorder = recorder
        self.clock = clock
        self.counts = counts
        self.recognitions = recognitions

    async def poll(self, target: Target, trace: list[Exchange] | None = None) -> Answer | Fault | None:
        """What a device answered, or why it did not; None if the database was away when something new was to be written down.

        Parameters
        ----------
        trace : if somebody asked for this poll: takes each request, and all of the device is read
        """
        device = target.device
        try:
            await targets.locate(target)
            async with asyncio.timeout(min(LONGEST_POLL, max(30.0, device.interval_s * 0.9))):
                if device.way != Device.Way.SNMP:
                    return await self._knock(target)
                session = self._session(target)
                session.trace = trace
                if trace is not None:
                    # Somebody asked for it, and wants to see what was changed a moment ago.
                    target.plan.all_read_at, target.plan.discovered = 0.0, False
                return await self._answer(target, await poll(session, target.plan, self.clock.time))
        except Fault as fault:
            return fault
        except TimeoutError:
            return Fault(FaultKind.NO_ANSWER, "answers, but too slowly to be read within its interval")
        except AWAY as error:
            target.plan.discovered = False
            if passes(error):
                log.warning("could not take over what a device says of itself", device=device.name, error=str(error))
                return None
            log.exception("what a device says of itself is refused by the database", device=device.name)
            words = "answers, but what it says of itself could not be stored (details are in the log)"
            return Fault(FaultKind.NOT_STORED, words)
        except Exception:
            # One device's surprise must not end the others' polls; the log has the details.
            log.exception("poll failed", device=device.name)
            words = "answered with something that Lumtar did not expect (details are in the log)"
            return Fault(FaultKind.GARBLED, words)

    async def _knock(self, target: Target) -> Answer:
        """Ask a device that does not speak SNMP whether it is there."""
        device = target.device
        assert target.place is not None
        family, (address, port) = target.place
        if device.way == Device.Way.TCP:
            rtt = await connect(family, address, port, device.timeout_s, device.tries)
        else:
            rtt = await self.pinger.ping(family, address, device.timeout_s, device.tries)
        nothing = np.zeros(0, np.int64)
        return Answer(device, self.clock.time(), -1, nothing, None, None, rtt_ms=rtt * 1000, poll_ms=rtt * 1000)

    def _session(self, target: Target) -> Session:
        device = target.device
        if target.session is None:
            target.session = targets.open_session(target, self.transport, Patience(device.timeout_s, device.tries))
        return target.session

    async def _answer(self, target: Target, polled: Polled) -> Answer:
        """What was polled with slots for its interfaces; new ones are written down first."""
        self.counts["varbinds"] += polled.varbinds
        if polled.discovery is not None and not self._is_known(target, polled.discovery):
            await asyncio.to_thread(with_database, lambda: self._describe(target, polled))
        target.is_as_loaded = False
        known = [row for row, index in enumerate(polled.indexes) if index in target.slot_of]
        snapshot, status = polled.snapshot, polled.status
        indexes = polled.indexes
        if len(known) < len(indexes):
            indexes = [indexes[row] for row in known]
            snapshot, status = take_rows(snapshot, known), take_rows(status, known)
        if polled.restarted:
            # Its refreshes begin anew, and another software may count in another way.
            target.dating.refresh, target.refresh_due = Refresh(), 0.0
        snapshot = self._dated(target, polled, snapshot, target.slots(indexes))
        components = [
            ComponentValue(part.pk, key[0], part.unit, polled.at, value, 0.0 if KINDS[key[0]].is_read_often else SELDOM)
            for key, value in polled.components.items()
            if (part := target.components.get(key)) is not None
        ]
        return Answer(
            target.device,
            polled.at,
            polled.uptime,
            target.slots(indexes),
            snapshot,
            status,
            rtt_ms=polled.rtt_ms,
            poll_ms=polled.poll_ms,
            requests=polled.requests,
            components=components,
            errors=[(target.slot_of[each.if_index], each) for each in polled.errors if each.if_index in target.slot_of],
            duplex={target.slot_of[index]: value for index, value in polled.duplex.items() if index in target.slot_of},
            refused=polled.refused,
            gone=target.gone_at(polled.at),
        )

    def _dated(self, target: Target, polled: Polled, snapshot: Snapshot, slots: NDArray[np.int64]) -> Snapshot:
        """The counters with the time at which the device had refreshed them, if it does that now and then."""
        dating, state = target.dating, self.recorder.ledger.state
        before, target.polled_at = target.polled_at, polled.at
        if not (period := dating.period_at(polled.at)):
            return snapshot
        changed = bool((state.counters[slots, :2] != snapshot.counters[:, :2]).any())
        counted_at = dating.date(polled.at, polled.read_until, changed, polled.at - before)
        n = len(slots)
        return replace(snapshot, counted_at=np.full(n, counted_at), refresh_s=np.full(n, period))

    def _is_known(self, target: Target, discovery: Discovery) -> bool:
        """Whether a device that was just loaded says what it is known for; after a start nearly all of them do."""
        interfaces = {index: self.recorder.interface(slot) for index, slot in target.slot_of.items()}
        return target.is_as_loaded and is_known(
            target.device,
            interfaces,
            target.components,
            self.recognitions(),
            discovery.said,
            discovery.ports,
            discovery.components,
        )

    def _describe(self, target: Target, polled: Polled) -> None:
        assert polled.discovery is not None
        discovery, read = polled.discovery, target.device.reads
        interfaces, components = describe(
            target.device, discovery.said, discovery.ports, discovery.components, moment(polled.at)
        )
        # A port keeps its slot, whatever index it has now.
        slot_of = target.slot_of_port
        new = [interface for interface in interfaces.values() if interface.pk not in slot_of]
        for interface, slot in zip(new, self.recorder.add(target.device, new), strict=True):
            slot_of[interface.pk] = int(slot)
        target.slot_of = {index: slot_of[interface.pk] for index, interface in interfaces.items()}
        target.order = ([], np.zeros(0, np.int64))
        for index, interface in interfaces.items():
            self.recorder.interfaces[target.slot_of[index]] = interface
        target.look_due = 0.0
        target.gone_ports = lately.gone([target.device.pk], moment(polled.at)).get(target.device.pk, [])
        target.components = {key: KnownComponent(c.pk, c.name, c.unit, c.scale) for key, c in components.items()}
        if target.device.reads != read:
            # It was recognised just now: its profile may want more, or less, from the next poll on.
            target.plan = targets.plan_for(target.device)
