"""The flow receiver as a service: it listens, adds up, stores what has closed, and keeps what it knows of exporters."""

import asyncio
import os
import threading
import time
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import structlog

from lumtar.domain.flows import applications, declared_fields, recording, response_times, store, strangers
from lumtar.domain.flows import exporters as kept
from lumtar.domain.flows.exporters import Key, Seen
from lumtar.domain.operation.services import announce
from lumtar.engine.flows import inventory
from lumtar.engine.flows.inlet import Datagram, Inlet
from lumtar.engine.flows.totals import Totals
from lumtar.engine.outbox import Outbox
from lumtar.engine.service import Service, with_database
from lumtar.wire.flows.exporters import Domain
from lumtar.wire.flows.fields import FieldSpec, Template

log = structlog.get_logger()
HOST, PORTS = "127.0.0.1", "8478"
READ_S = 0.2
RENEW_S, INVENTORY_S = 5.0, 30.0
"""Lists and applications are read again so often, devices and their ports so often at least."""
STORE_S = 5.0
RECORD_S = 1.0
"""Records that somebody looks at reach the database once so many seconds."""
MOST_WAITING_ROWS = 5_000_000
"""Rows that wait for a database that is away; then the oldest are dropped, and counted."""


@dataclass(slots=True)
class Before:
    """The counters of a domain when they were kept last."""

    records: int = 0
    datagrams: int = 0
    lost: int = 0
    no_template: int = 0
    malformed: int = 0


class FlowReceiver(Service):
    """Receives flow records."""

    kind = "flows"

    def __init__(self, name: str = "") -> None:
        super().__init__(name)
        self.host = os.environ.get("LUMTAR_FLOW_HOST", HOST)
        self.ports = [int(port) for port in os.environ.get("LUMTAR_FLOW_PORTS", PORTS).split(",")]
        self.totals = Totals()
        self._adding = threading.Lock()
        """Held by whoever adds up or takes away what has closed."""
        self._inlet: Inlet | None = None
        self._problem = ""
        self._before: dict[Key, Before] = {}
        self._kept_at = time.monotonic()
        self._conversations = Outbox(store.MINUTES, store.append, MOST_WAITING_ROWS)
        self._responses = Outbox(store.RESPONSE_MINUTES, response_times.append, MOST_WAITING_ROWS // 5)

    async def prepare(self) -> None:
        """Learn whose flows are taken, and what exporters said before."""
        await self.until_there(self._load)

    def _load(self) -> None:
        self._renew_inventory()
        self._renew_definitions()
        store.ensure_ahead(datetime.now(UTC))
        for key, templates, sampling in kept.stored():
            domain = self.totals.exporters.domain(*key)
            if domain is None:
                continue
            for number, scope, fields in templates:
                domain.learn(Template(number, tuple(FieldSpec(*each) for each in fields), scope))
            domain.sampling = {int(number): int(rate) for number, rate in sampling.items()}
            domain.is_changed = False

    async def work(self) -> None:
        """Receive until cancelled."""
        try:
            await self.supervise_all(
                {
                    "listening for flows": self._listen,
                    "storing flows": self._store,
                    "devices and sites": self._renew,
                    "records one by one": self._record,
                }
            )
        finally:
            await asyncio.to_thread(with_database, lambda: self._write(whole=True))

    async def _listen(self) -> None:
        try:
            self._inlet = Inlet(self.host, self.ports)
        except OSError as error:
            ports = ", ".join(map(str, self.ports))
            self._problem = f"it cannot listen for flows at {self.host} port {ports}: {error.strerror}"
            raise
        self._problem = ""
        self._inlet.start()
        try:
            while True:
                await asyncio.sleep(READ_S)
                if datagrams := self._inlet.take():
                    await asyncio.to_thread(self._take, datagrams)
        finally:
            self._inlet.close()

    def _take(self, datagrams: list[Datagram]) -> None:
        with self._adding:
            self.totals.take(datagrams, time.time())

    async def _renew(self) -> None:
        looked_at, unknown = time.monotonic(), 0
        while True:
            await asyncio.sleep(RENEW_S)
            await asyncio.to_thread(with_database, self._renew_definitions)
            # All ports of a large network are read seldom, unless somebody unknown sends: maybe it was just added.
            counted = self.totals.counted["unknown_records"]
            if counted > unknown or time.monotonic() - looked_at >= INVENTORY_S:
                looked_at, unknown = time.monotonic(), counted
                await asyncio.to_thread(with_database, self._renew_inventory)

    def _renew_inventory(self) -> None:
        self.totals.known = inventory.load()

    def _renew_definitions(self) -> None:
        self.totals.sightings.lists = strangers.in_force()
        self.totals.applications = applications.in_force()
        declared = declared_fields.in_force()
        with self._adding:
            self.totals.exporters.declare(declared)

    async def _record(self) -> None:
        while True:
            await asyncio.sleep(RECORD_S)
            await asyncio.to_thread(with_database, self._keep_records)

    def _keep_records(self) -> None:
        with self._adding:
            rows = self.totals.recorder.take(RECORD_S)
            seen = self.totals.sightings.take()
        if seen:
            strangers.keep(seen)
        if rows is not None:
            store.RECORDS.ensure(datetime.now(UTC), datetime.now(UTC))
            recording.append(rows)
        self.totals.recorder.wanted = recording.wanted()

    async def _store(self) -> None:
        while True:
            await asyncio.sleep(STORE_S)
            await asyncio.to_thread(with_database, self._write)

    def _write(self, *, whole: bool = False) -> None:
        now = time.time()
        with self._adding:
            self._conversations.put(self.totals.closed(now, whole=whole))
            self._responses.put(self.totals.answering.closed(now, whole=whole))
        if self._conversations.write():
            announce("flows")
        self._responses.write()
        self._keep_exporters(now)
        # Last, since it is the least: whatever goes wrong here loses no totals.
        store.append_scans(self.totals.scanning)
        self.totals.scanning.clear()

    def _keep_exporters(self, now: float) -> None:
        took = max(0.001, time.monotonic() - self._kept_at)
        seen: dict[Key, Seen] = {}
        for key, domain in self.totals.exporters.domains.items():
            domain.expire()
            before = self._before.get(key, Before())
            changes = {name: getattr(domain, name) - getattr(before, name) for name in Before.__slots__}
            if not any(changes.values()) and not domain.is_changed:
                continue
            seen[key] = Seen(
                device=self.totals.known.device_of(key),
                at=datetime.fromtimestamp(now, UTC),
                rate=changes["records"] / took,
                skew_s=round(self.totals.skew.get(key, 0.0), 1),
                templates=_templates(domain) if domain.is_changed else None,
                sampling={str(number): rate for number, rate in domain.sampling.items()} if domain.is_changed else None,
                **changes,
            )
        if seen:
            kept.keep(seen)
            for key in seen:
                domain = self.totals.exporters.domains[key]
                domain.is_changed = False
                self._before[key] = Before(*(getattr(domain, name) for name in Before.__slots__))
        self._kept_at = time.monotonic()

    def progress(self) -> dict[str, Any]:
        """What came in since the start and what became of it; who sent what cannot be understood."""
        counted, inlet = self.totals.counted, self._inlet
        return {
            **{
                name: counted[name]
                for name in ("datagrams", "records", "malformed", "unknown_records", "wrong_clock", "closed_early")
            },
            "received": inlet.received if inlet else 0,
            "dropped": (inlet.dropped if inlet else 0) + self._conversations.dropped,
            "written_rows": self._conversations.written,
            "recorded": self.totals.recorder.kept,
            "not_recorded": self.totals.recorder.left_out,
            "buffer": inlet.buffer if inlet else 0,
            "listens_at": f"{self.host} port {', '.join(map(str, self.ports))}",
            "strangers": [{"address": address, **each} for address, each in reversed(self.totals.strange.items())],
        }

    def trouble(self) -> str:
        """Why it cannot listen, if it cannot."""
        return self._problem


def _templates(domain: Domain) -> list[list[Any]]:
    """Templates as they are kept: number, scope and fields."""
    return [
        [each.number, each.scope, [[spec.element, spec.length, spec.enterprise] for spec in each.fields]]
        for each in domain.templates.values()
    ]
