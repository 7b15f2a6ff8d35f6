"""The thread that keeps exact time: it sends probes, takes their answers, and answers those of others."""

import ipaddress
import select
import threading
import time
from collections.abc import Sequence

import structlog

from lumtar.core.paths.statistics import Summary
from lumtar.engine.prober.reflector import Reflector
from lumtar.engine.prober.sessions import Sessions, Spec
from lumtar.wire import stamp
from lumtar.wire.stamped import StampedSocket
from lumtar.wire.stamped_echo import StampedEcho

log = structlog.get_logger()
LONGEST_WAIT_S = 0.5
Opening = tuple[str, str]
"""A kind of probes, and from where they are sent."""
LOOKED_AT = 10
"""Sessions that are looked at for intervals that have closed, whenever something was sent or came."""


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
        self._sessions: dict[Opening, Sessions] = {}
        self._poller = select.poll()
        self._unopened: dict[int, str] = {}
        if reflector:
            self._poller.register(reflector, select.POLLIN)
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

    @property
    def problems(self) -> dict[int, str]:
        """Paths whose probes cannot be sent, and why."""
        return self._unopened | dict(row for each in list(self._sessions.values()) for row in each.problems())

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
        self._unopened = {}
        by_opening: dict[Opening, list[Spec]] = {opening: [] for opening in self._sessions}
        for spec in wanted:
            by_opening.setdefault((spec.kind, _host_for(spec.address)), []).append(spec)
        now = time.time()
        for opening, specs in by_opening.items():
            if opening in self._sessions or self._open(opening, specs):
                self._sessions[opening].renew(specs, now)

    def _open(self, opening: Opening, specs: Sequence[Spec]) -> bool:
        kind, host = opening
        try:
            outlet = StampedEcho(host) if kind == "icmp" else StampedSocket(host)
        except OSError as error:
            # A machine without version 6, say, or without the right to send ICMP: the other paths are measured all the same.
            self._unopened |= {spec.path: error.strerror or str(error) for spec in specs}
            return False
        self._outlets.append(outlet)
        self._poller.register(outlet, select.POLLIN)
        self._sessions[opening] = Sessions(outlet, understood=stamp.answer if kind == "stamp" else stamp.echoed)
        return True

    def _close(self) -> None:
        now, sessions = time.time(), self._sessions.values()
        found = [row for each in sessions for row in each.closed(now, LOOKED_AT)]
        self.strange = sum(each.strange for each in sessions)
        if found:
            with self._lock:
                self._closed += found


def _host_for(address: str) -> str:
    """From where an address is probed: this machine is from itself alone, so that nobody else is heard."""
    known = ipaddress.ip_address(address)
    if known.version == 6:
        return "::1" if known.is_loopback else "::"
    return "127.0.0.1" if known.is_loopback else "0.0.0.0"
