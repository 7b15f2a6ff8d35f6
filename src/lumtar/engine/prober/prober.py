"""The prober as a service: one thread keeps exact time, the rest reads which paths there are and stores what they came to."""

import asyncio
import ipaddress
import os
import select
import threading
import time
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

import numpy as np
import structlog

from lumtar.core.paths.statistics import Summary
from lumtar.domain.operation.services import announce
from lumtar.domain.paths import services, store
from lumtar.domain.paths.models import Path
from lumtar.engine.prober.reflector import Reflector
from lumtar.engine.prober.sessions import INTERVAL_S, TIMEOUT_S, Sessions, Spec
from lumtar.engine.service import Service, with_database
from lumtar.wire.stamped import StampedSocket

log = structlog.get_logger()
HOST, REFLECTOR_PORT = "127.0.0.1", "8862"
RENEW_S = 5.0
STORE_S = 1.0
LONGEST_WAIT_S = 0.5
MOST_WAITING_ROWS = 1_000_000
"""Intervals that wait for a database that is away; then the oldest are dropped, and counted."""


class Clockwork(threading.Thread):
    """Sends probes, takes answers and answers others. It alone touches its sockets and sessions."""

    def __init__(self, reflector: StampedSocket | None) -> None:
        super().__init__(name="probes", daemon=True)
        self._wanted: Sequence[Spec] | None = None
        self._closed: list[tuple[int, int, Summary]] = []
        self._lock = threading.Lock()
        self._ending = threading.Event()
        self._inlet = reflector
        self._outlets: list[StampedSocket] = []
        self._sessions: dict[str, Sessions] = {}
        self._poller = select.poll()
        if reflector:
            self._poller.register(reflector, select.POLLIN)
        self.problems: dict[int, str] = {}
        self.strange = self.answered = 0
        self.problem = ""

    def want(self, specs: Sequence[Spec]) -> None:
        """Have these paths probed."""
        with self._lock:
            self._wanted = specs

    def closed(self) -> list[tuple[int, int, Summary]]:
        """Intervals that have closed since this was asked last."""
        with self._lock:
            found, self._closed = self._closed, []
        return found

    def end(self) -> None:
        """Stop; returns when it has."""
        self._ending.set()
        self.join(5.0)

    def run(self) -> None:
        """Work until ended; whatever happens is told by ``problem``."""
        try:
            self._work()
        except Exception as error:
            log.exception("probing ended")
            self.problem = f"probing ended: {error}"

    def _work(self) -> None:
        reflector = Reflector(self._inlet) if self._inlet else None
        try:
            while not self._ending.is_set():
                self._renew()
                now = time.time()
                due = min([each.send(now) for each in self._sessions.values()], default=now + LONGEST_WAIT_S)
                self._poller.poll(1000 * max(0.0, min(due - time.time(), LONGEST_WAIT_S)))
                for each in self._sessions.values():
                    each.take()
                if reflector:
                    reflector.take()
                    self.answered = reflector.answered
                self._close()
        finally:
            for outlet in self._outlets:
                outlet.close()

    def _renew(self) -> None:
        with self._lock:
            wanted, self._wanted = self._wanted, None
        if wanted is None:
            return
        by_host: dict[str, list[Spec]] = {host: [] for host in self._sessions}
        for spec in wanted:
            by_host.setdefault(_host_for(spec.address), []).append(spec)
        now = time.time()
        for host, specs in by_host.items():
            if host not in self._sessions:
                outlet = StampedSocket(host)
                self._outlets.append(outlet)
                self._poller.register(outlet, select.POLLIN)
                self._sessions[host] = Sessions(outlet)
            self._sessions[host].renew(specs, now)

    def _close(self) -> None:
        now, sessions = time.time(), self._sessions.values()
        found = [row for each in sessions for row in each.closed(now)]
        self.problems = {path: words for each in sessions for path, words in each.problems()}
        self.strange = sum(each.strange for each in sessions)
        if found:
            with self._lock:
                self._closed += found


class Prober(Service):
    """Measures paths."""

    kind = "prober"

    def __init__(self, name: str = "") -> None:
        super().__init__(name)
        self.host = os.environ.get("LUMTAR_REFLECTOR_HOST", HOST)
        self.port = int(os.environ.get("LUMTAR_REFLECTOR_PORT", REFLECTOR_PORT))
        self._inlet: StampedSocket | None = None
        self._clockwork: Clockwork | None = None
        self._waiting: list[tuple[Any, ...]] = []
        self._paths = self._written = self._dropped = 0
        self._problem = ""

    async def work(self) -> None:
        """Measure until cancelled."""
        self._listen()
        self._clockwork = Clockwork(self._inlet)
        self._clockwork.start()
        try:
            await self.supervise_all({"which paths there are": self._renew, "storing paths": self._store})
        finally:
            await asyncio.to_thread(self._clockwork.end)
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
            await asyncio.to_thread(with_database, self._read_paths)
            await asyncio.sleep(RENEW_S)

    def _read_paths(self) -> None:
        paths = services.of_prober(self.name)
        self._paths = len(paths)
        if self._clockwork:
            self._clockwork.want([_spec(each) for each in paths])
            services.note_problems(self.name, self._clockwork.problems)

    async def _store(self) -> None:
        while True:
            await asyncio.sleep(STORE_S)
            if self._clockwork and not self._clockwork.is_alive():
                raise RuntimeError(self._clockwork.problem or "probing ended")
            await asyncio.to_thread(with_database, self._write)

    def _write(self) -> None:
        if self._clockwork:
            self._waiting += [store.row_of(*each) for each in self._clockwork.closed()]
        if beyond := max(0, len(self._waiting) - MOST_WAITING_ROWS):
            del self._waiting[:beyond]
            self._dropped += beyond
        if not self._waiting:
            return
        rows = np.array(self._waiting, store.ROW)
        first, last = (datetime.fromtimestamp(float(each), UTC) for each in (rows["at"].min(), rows["at"].max()))
        store.MINUTES.ensure(first, last)
        store.append(rows)
        self._written += len(rows)
        self._waiting = self._waiting[len(rows) :]
        announce("paths")

    def progress(self) -> dict[str, Any]:
        """How much it measures, and answers."""
        clockwork = self._clockwork
        return {
            "paths": self._paths,
            "written_rows": self._written,
            "dropped": self._dropped,
            "answered": clockwork.answered if clockwork else 0,
            "strange": clockwork.strange if clockwork else 0,
            "interval_s": INTERVAL_S,
            "timeout_s": TIMEOUT_S,
            "reflector": f"{self.host} port {self.port}" if self._inlet else "",
        }

    def trouble(self) -> str:
        """What it cannot do, if anything."""
        return self._problem


def _host_for(address: str) -> str:
    """From where an address is probed: this machine is from itself alone, so that nobody else is heard."""
    known = ipaddress.ip_address(address)
    if known.version == 6:
        return "::1" if known.is_loopback else "::"
    return "127.0.0.1" if known.is_loopback else "0.0.0.0"


def _spec(row: Path) -> Spec:
    return Spec(row.pk, row.address, row.port, row.dscp << 2, row.octets, row.every_ms / 1000)
