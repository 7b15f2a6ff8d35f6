"""Sessions of probes that are packets: each path sends its own, and keeps what became of them until an interval has closed.

All of them are test packets of STAMP (RFC 8762), whether a reflector answers them or something that only echoes.
"""

import heapq
import itertools
import time
from collections import defaultdict, deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from lumtar.core.paths.statistics import Answers, Summary, summary
from lumtar.wire import stamp
from lumtar.wire.ber import Malformed
from lumtar.wire.stamped import Address, Arrived

INTERVAL_S = 60
TIMEOUT_S = 3.0
"""What comes later is lost: whoever waited for it has given up."""
OURS = stamp.error_estimate(0.001, is_synchronised=False)
"""What is told of our own clock."""
MOST_SESSIONS = 65_535


class Outlet(Protocol):
    """What sends datagrams and tells when they left and arrived (wire/stamped.py)."""

    def send(self, data: bytes, to: Address, traffic_class: int = 0) -> int:
        """Send a datagram. Returns its number."""

    def departures(self) -> Iterator[tuple[int, int]]:
        """Numbers of datagrams that have left, and when."""

    def arrivals(self) -> Iterator[Arrived]:
        """Datagrams that have arrived."""


@dataclass(frozen=True, slots=True)
class Spec:
    """A path as it is probed: whom, with which traffic class (DSCP times four), how many octets, how often, and how (core/paths/kinds.py)."""

    path: int
    address: str
    port: int
    traffic_class: int = 0
    octets: int = stamp.BASE
    every_s: float = 1.0
    kind: str = "stamp"

    @property
    def to(self) -> Address:
        """Where its probes go."""
        return self.address, self.port


@dataclass(slots=True)
class Open:
    """An interval that has not closed: of each probe its round trip and one-way delays in microseconds, and when its answer came."""

    trips: list[float] = field(default_factory=list)
    out: list[float] = field(default_factory=list)
    back: list[float] = field(default_factory=list)
    arrival: list[int] = field(default_factory=list)
    duplicates: int = 0


@dataclass(slots=True)
class Probe:
    """A probe on its way: of which interval which one, when it left, and the time stamp in it, which its answer repeats."""

    open: Open
    place: int
    left_ns: int
    stamp: int
    is_answered: bool = False


@dataclass(slots=True)
class Session:
    """A path that is probed."""

    spec: Spec
    number: int
    sequence: int = 0
    arrived: int = 0
    jitter: float = np.nan
    open: dict[int, Open] = field(default_factory=dict)
    probes: dict[int, Probe] = field(default_factory=dict)
    """By their sequence numbers; those that nobody waits for any more are forgotten."""
    problem: str = ""


class Sessions:
    """All sessions of one socket."""

    def __init__(
        self,
        outlet: Outlet,
        clock: Callable[[], int] = time.time_ns,
        understood: Callable[[bytes], stamp.Answer] = stamp.answer,
    ) -> None:
        self._outlet, self._clock, self._understood = outlet, clock, understood
        self._sessions: dict[int, Session] = {}
        self._by_path: dict[int, Session] = {}
        self._by_address: defaultdict[Address, list[Session]] = defaultdict(list)
        self._due: list[tuple[float, int, Session]] = []
        self._looked_at: deque[Session] = deque()
        self._ties = itertools.count()
        self._left: dict[int, Probe] = {}
        self.strange = 0
        """Datagrams that answer nothing that was sent."""

    def renew(self, specs: Iterable[Spec], now: float) -> None:
        """Probe these paths from now on, and no others; those that are as before go on."""
        wanted = {spec.path: spec for spec in specs}
        for path, session in list(self._by_path.items()):
            if wanted.get(path) != session.spec:
                del self._by_path[path], self._sessions[session.number]
                self._by_address[session.spec.to].remove(session)
        free = (number for number in range(1, MOST_SESSIONS + 1) if number not in self._sessions)
        for place, (path, spec) in enumerate(wanted.items()):
            if path in self._by_path or (number := next(free, None)) is None:
                continue
            session = Session(spec, number)
            self._sessions[number] = self._by_path[path] = session
            self._by_address[spec.to].append(session)
            self._looked_at.append(session)
            # Spread over their interval, so that not all leave at once.
            first = now + spec.every_s * ((place * 0.618034) % 1.0)
            heapq.heappush(self._due, (first, next(self._ties), session))

    def send(self, now: float) -> float:
        """Send what is due. Returns when the next probe is."""
        while self._due and self._due[0][0] <= now:
            due, _, session = heapq.heappop(self._due)
            if not self._is_there(session):
                continue
            self._send_one(session)
            # After a pause of the whole process what was missed is not sent all at once.
            following = max(due + session.spec.every_s, now - session.spec.every_s)
            heapq.heappush(self._due, (following, next(self._ties), session))
        return self._due[0][0] if self._due else now + 1.0

    def _send_one(self, session: Session) -> None:
        at_ns = self._clock()
        interval = at_ns // 1_000_000_000 // INTERVAL_S
        kept = session.open.setdefault(interval, Open())
        probe = Probe(kept, len(kept.trips), at_ns, stamp.ntp(at_ns))
        for values in (kept.trips, kept.out, kept.back):
            values.append(np.nan)
        kept.arrival.append(-1)
        sequence, session.sequence = session.sequence, (session.sequence + 1) & 0xFFFFFFFF
        data = stamp.probe(sequence, session.number, at_ns, OURS, session.spec.octets)
        try:
            self._left[self._outlet.send(data, session.spec.to, session.spec.traffic_class)] = probe
            session.problem = ""
        except OSError as error:
            session.problem = error.strerror or str(error)
            return
        session.probes[sequence] = probe

    def take(self) -> None:
        """Take over what the kernel tells: when probes left, and the answers that have come."""
        for number, at_ns in self._outlet.departures():
            if probe := self._left.pop(number, None):
                probe.left_ns = at_ns
        for arrived in self._outlet.arrivals():
            self._answered(arrived)

    def _answered(self, arrived: Arrived) -> None:
        try:
            told = self._understood(arrived.data)
        except Malformed:
            self.strange += 1
            return
        session, probe = self._whose(told, arrived.sender)
        if session is None or probe is None:
            self.strange += 1
            return
        if probe.is_answered:
            probe.open.duplicates += 1
            return
        probe.is_answered = True
        trip_ns = arrived.at_ns - probe.left_ns
        if trip_ns > TIMEOUT_S * 1e9:
            return
        kept, place, stay_ns = probe.open, probe.place, 0
        if told.received and told.sent:
            received, sent = (stamp.nanoseconds(each, told.error, arrived.at_ns) for each in (told.received, told.sent))
            kept.out[place], kept.back[place] = (received - probe.left_ns) / 1000, (arrived.at_ns - sent) / 1000
            # Where its clock jumped in between the whole time is the network's.
            stay_ns = sent - received if 0 <= sent - received <= trip_ns else 0
        kept.trips[place] = (trip_ns - stay_ns) / 1000
        kept.arrival[place], session.arrived = session.arrived, session.arrived + 1

    def _whose(self, told: stamp.Answer, sender: Address) -> tuple[Session | None, Probe | None]:
        """The probe that an answer is of: its time stamp tells it from one of another session with the same number."""
        # A reflector that knows no sessions returns zeros for them.
        numbered = filter(None, [self._sessions.get(told.session)])
        for session in numbered if told.session else self._by_address.get(sender, []):
            probe = session.probes.get(told.sequence)
            if probe and probe.stamp == told.origin and session.spec.to == sender:
                return session, probe
        return None, None

    def _is_there(self, session: Session) -> bool:
        return self._sessions.get(session.number) is session

    def closed(self, now: float, most: int = MOST_SESSIONS) -> list[tuple[int, int, Summary]]:
        """Intervals for which nobody waits any more: path, begin in seconds of the epoch, and what it came to.

        Parameters
        ----------
        most : sessions that are looked at this time; the next time others are, so that thousands that close at once hold nothing up
        """
        last = int((now - TIMEOUT_S) // INTERVAL_S)
        found = []
        for _ in range(min(most, len(self._looked_at))):
            session = self._looked_at.popleft()
            if not self._is_there(session):
                continue
            self._looked_at.append(session)
            for interval in sorted(each for each in session.open if each < last):
                told = summary(_answers(session.open.pop(interval)), session.jitter)
                session.jitter = told.jitter
                found.append((session.spec.path, interval * INTERVAL_S, told))
            _forget(session.probes, (now - 2 * TIMEOUT_S - INTERVAL_S) * 1e9)
        # What the kernel never told the departure of is not waited for either.
        if len(self._left) > 10 * MOST_SESSIONS:
            self._left.clear()
        return found

    def problems(self) -> Sequence[tuple[int, str]]:
        """Paths whose probes cannot be sent, and why."""
        return [(each.spec.path, each.problem) for each in list(self._sessions.values()) if each.problem]


def _forget(probes: dict[int, Probe], before_ns: float) -> None:
    """Forget probes that left before a time; they stand in the order in which they were sent."""
    while probes and probes[first := next(iter(probes))].left_ns < before_ns:
        del probes[first]


def _answers(kept: Open) -> Answers:
    return Answers(
        np.array(kept.trips), np.array(kept.arrival, np.int64), np.array(kept.out), np.array(kept.back), kept.duplicates
    )
