"""Asking devices for what is around them, at a pace of its own beside the polls: neighbours, bridge, stations, addresses, routes,
access points and their clients.

A device is asked when it was described, and every five minutes; one request at a time, and few devices side by side, so that a
large table keeps nobody waiting. A device that takes long is asked less often.
"""

import asyncio
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import structlog

from lumtar.core.profiles import Table
from lumtar.core.topology import Neighbour
from lumtar.core.topology.addressing import Addresses
from lumtar.core.topology.bridging import Bridge
from lumtar.core.topology.lldp import OwnPort
from lumtar.core.topology.routing import Route
from lumtar.core.topology.wireless import Wireless
from lumtar.domain.inventory.models import Device
from lumtar.domain.topology.looks import Looked, keep
from lumtar.engine.batch import moment
from lumtar.engine.collector.bridging import read_addresses, read_bridge
from lumtar.engine.collector.lldp import read_neighbours, read_own_table
from lumtar.engine.collector.reading import Plan
from lumtar.engine.collector.routing import MOST_ROUTES, read_routes
from lumtar.engine.collector.targets import Target, locate, open_session
from lumtar.engine.collector.wireless import read_wireless
from lumtar.engine.recorder import Recorder
from lumtar.engine.service import AWAY, with_database
from lumtar.wire.faults import Fault
from lumtar.wire.session import Patience, Session
from lumtar.wire.transport import Transport

log = structlog.get_logger()
LOOK_S = 0.5
EVERY_S = 300.0
AT_ONCE = 16
"""Devices that are asked side by side."""
LONGEST_S = 120.0
"""Seconds that one device may take; what it told by then is kept, the rest is left."""
REST = 10.0
"""A device that took long is left alone for so many times as long."""
ASKED = frozenset((Table.NEIGHBOURS, Table.BRIDGE, Table.ADDRESSES, Table.ROUTES))
PATIENCE = Patience(timeout=3.0, tries=2)


@dataclass(slots=True)
class Told:
    """What a device told by now; ``reading`` is what it is asked for."""

    neighbours: list[Neighbour] | None = None
    addresses: Addresses | None = None
    bridge: Bridge | None = None
    routes: list[Route] | None = None
    wireless: Wireless | None = None
    note: str = ""
    reading: str = "neighbours"

    async def read(self, session: Session, plan: Plan, own: Sequence[OwnPort]) -> None:
        """Ask for everything that its profile wants.

        Raises
        ------
        Fault
        """
        tables = plan.tables
        if Table.NEIGHBOURS in tables:
            self.neighbours = await read_neighbours(session, own)
            if not self.neighbours and plan.neighbour_table is not None:
                self.neighbours = await read_own_table(session, plan.neighbour_table, own)
        self.reading = "addresses"
        if Table.ADDRESSES in tables:
            self.addresses = await read_addresses(session)
        self.reading = "routes"
        if Table.ROUTES in tables:
            self.routes = await read_routes(session)
            if self.routes is None:
                self.note = f"routes: there are more than the {MOST_ROUTES:,} that are read"
        self.reading = "wireless clients"
        if plan.wireless_tables is not None:
            self.wireless = await read_wireless(session, plan.wireless_tables)
        self.reading = "forwarding table"
        if Table.BRIDGE in tables:
            self.bridge = await read_bridge(session)


class Surroundings:
    """Asks all devices that are polled until it is cancelled."""

    def __init__(self, targets: Mapping[int, Target], recorder: Recorder, transport: Transport) -> None:
        self._targets = targets
        self._recorder = recorder
        self._transport = transport
        self._tasks: dict[int, asyncio.Task[None]] = {}

    async def run(self) -> None:
        """Begin what is due."""
        try:
            while True:
                self._tasks = {number: task for number, task in self._tasks.items() if not task.done()}
                now = time.monotonic()
                for number, target in list(self._targets.items()):
                    if len(self._tasks) >= AT_ONCE:
                        break
                    if target.look_due <= now and number not in self._tasks and self._is_asked(target):
                        # Not all of them again at the same time.
                        target.look_due = now + EVERY_S * (0.9 + 0.2 * (number % 100 / 100))
                        self._tasks[number] = asyncio.create_task(self._look(target))
                await asyncio.sleep(LOOK_S)
        finally:
            for task in self._tasks.values():
                task.cancel()

    @staticmethod
    def _is_asked(target: Target) -> bool:
        """Whether the ports of a device are known, and its profile wants to know what is around it."""
        is_snmp = target.device.way == Device.Way.SNMP
        plan = target.plan
        is_wanted = plan.wireless_tables is not None or not ASKED.isdisjoint(plan.tables)
        return is_snmp and bool(target.slot_of) and is_wanted

    def _own(self, target: Target) -> list[OwnPort]:
        ports = [(index, self._recorder.interface(slot)) for index, slot in target.slot_of.items()]
        return [OwnPort(index, port.name, port.descr, port.alias, port.mac) for index, port in ports]

    async def _look(self, target: Target) -> None:
        name, began = target.device.name, time.monotonic()
        session: Session | None = None
        told, problem = Told(), ""
        try:
            await locate(target)
            session = open_session(target, self._transport, PATIENCE)
            async with asyncio.timeout(LONGEST_S):
                await told.read(session, target.plan, self._own(target))
        except Fault as fault:
            problem = f"{told.reading}: {fault.words}"
        except TimeoutError:
            problem = f"{told.reading}: could not be read within {LONGEST_S:.0f} s"
        except Exception:
            # A surprise at one device must not end the looks at others; the log has the details.
            log.exception("asking for what is around a device failed", device=name)
            problem = f"{told.reading}: could not be understood; the collector's log has the details"
        took_ms = 1000 * (time.monotonic() - began)
        looked = Looked(
            moment(time.time()),
            round(took_ms, 1),
            session.requests if session else 0,
            told.neighbours,
            problem,
            told.bridge,
            told.addresses,
            told.routes,
            told.wireless,
            told.note,
        )
        target.look_due = max(target.look_due, time.monotonic() + REST * took_ms / 1000)
        try:
            await asyncio.to_thread(with_database, lambda: keep(target.device.pk, looked))
        except AWAY as error:
            log.warning("what is around a device could not be kept", device=name, error=str(error))
            target.look_due = 0.0
