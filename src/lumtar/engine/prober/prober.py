"""The prober as a service: it reads which paths there are, has them probed, and stores what they came to."""

import asyncio
import os
import time
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

import numpy as np

from lumtar.core.paths.kinds import KINDS
from lumtar.domain.operation.services import announce
from lumtar.domain.paths import services, store, traced
from lumtar.domain.paths.models import Path
from lumtar.engine.outbox import Outbox
from lumtar.engine.prober.asker import Asker, ServiceSpec
from lumtar.engine.prober.clockwork import Clockwork
from lumtar.engine.prober.sessions import INTERVAL_S, TIMEOUT_S, Spec
from lumtar.engine.prober.tracer import Tracer
from lumtar.engine.service import Service, with_database
from lumtar.wire.probes.asking import Target
from lumtar.wire.stamped import StampedSocket

HOST, REFLECTOR_PORT = "127.0.0.1", "8862"
RENEW_S = 5.0
STORE_S = 1.0
MOST_WAITING_ROWS = 1_000_000
"""Intervals that wait for a database that is away; then the oldest are dropped, and counted."""


class Prober(Service):
    """Measures paths."""

    kind = "prober"

    def __init__(self, name: str = "") -> None:
        super().__init__(name)
        self.host = os.environ.get("LUMTAR_REFLECTOR_HOST", HOST)
        self.port = int(os.environ.get("LUMTAR_REFLECTOR_PORT", REFLECTOR_PORT))
        self._inlet: StampedSocket | None = None
        self._clockwork: Clockwork | None = None
        self._outbox = Outbox(store.MINUTES, store.append, MOST_WAITING_ROWS, "at", 1.0)
        self._asker, self._tracer = Asker(), Tracer()
        self._paths = 0
        self._problem = ""

    async def work(self) -> None:
        """Measure until cancelled."""
        self._listen()
        self._clockwork = Clockwork(self._inlet)
        self._clockwork.start()
        try:
            await self.supervise_all(
                {
                    "which paths there are": self._renew,
                    "storing paths": self._store,
                    "tracing routes": self._tracer.work,
                }
            )
        finally:
            await asyncio.to_thread(self._clockwork.end)
            await self._asker.end()
            await asyncio.to_thread(with_database, self._write)
            if self._inlet:
                self._inlet.close()

    def _listen(self) -> None:
        if not self.port:
            return
        try:
            self._inlet = StampedSocket(self.host, self.port)
        except OSError as error:
            # Its own paths are measured all the same.
            self._problem = f"it cannot answer probes at {self.host} port {self.port}: {error.strerror}"

    async def _renew(self) -> None:
        while True:
            paths = await asyncio.to_thread(with_database, self._read_paths)
            self._asker.want([_service(each) for each in paths if not KINDS[each.kind].is_packet])
            self._tracer.want(
                [(each.pk, each.address, each.dscp << 2) for each in paths if each.traces and each.address]
            )
            await asyncio.sleep(RENEW_S)

    def _read_paths(self) -> Sequence[Path]:
        paths = services.of_prober(self.name)
        self._paths = len(paths)
        if self._clockwork:
            self._clockwork.want([_spec(each) for each in paths if KINDS[each.kind].is_packet])
            services.note_problems(paths, self._clockwork.problems | self._asker.problems)
        return paths

    async def _store(self) -> None:
        while True:
            await asyncio.sleep(STORE_S)
            if self._clockwork and not self._clockwork.is_alive():
                raise RuntimeError(self._clockwork.problem or "probing ended")
            await asyncio.to_thread(with_database, self._write)

    def _write(self) -> None:
        if self._clockwork:
            rows = [store.row_of(*each) for each in self._clockwork.closed()]
            rows += [store.row_of(*each) for each in self._asker.closed(time.time())]
            self._outbox.put(np.array(rows, store.ROW))
        if self._outbox.write():
            announce("paths")
        if routes := self._tracer.taken():
            traced.note(routes, datetime.now(UTC))

    def progress(self) -> dict[str, Any]:
        """How much it measures, and answers."""
        clockwork = self._clockwork
        return {
            "paths": self._paths,
            "written_rows": self._outbox.written,
            "dropped": self._outbox.dropped,
            "answered": clockwork.answered if clockwork else 0,
            "strange": clockwork.strange if clockwork else 0,
            "interval_s": INTERVAL_S,
            "timeout_s": TIMEOUT_S,
            "reflector": f"{self.host} port {self.port}" if self._inlet else "",
        }

    def trouble(self) -> str:
        """What it cannot do, if anything."""
        return self._problem


def _spec(row: Path) -> Spec:
    port = row.port if KINDS[row.kind].port else 0
    return Spec(row.pk, str(row.address), port, row.dscp << 2, row.octets, row.every_ms / 1000, row.kind)


def _service(row: Path) -> ServiceSpec:
    target = Target(row.address or "", row.port, row.asked, row.expected, row.verifies, row.dscp << 2)
    return ServiceSpec(row.pk, row.kind, target, row.every_ms / 1000)
