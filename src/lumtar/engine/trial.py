"""Trying a device out before it is added: each step as it happens, with its time and a plain result."""

import asyncio
import time
from collections.abc import AsyncIterator, Awaitable, Sequence
from dataclasses import asdict, dataclass, field
from socket import AddressFamily

from lumtar.core.advice import better_than_community
from lumtar.core.discovery import Described
from lumtar.core.profiles import Recognition, recognise
from lumtar.core.reach import may_be_sent, refusal
from lumtar.core.units import duration
from lumtar.engine.collector.reading import Plan, discover, read_system
from lumtar.wire import ber, oids
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.icmp import Pinger
from lumtar.wire.session import Credential, Patience, Session
from lumtar.wire.tcp import connect
from lumtar.wire.transport import Transport, resolve
from lumtar.wire.usm import User

QUICK = Patience(timeout=1.0, tries=2)


@dataclass(frozen=True, slots=True)
class Candidate:
    """A credential to try. ``number`` is that of a stored one, 0 of one that was only typed in."""

    number: int
    name: str
    credential: Credential
    ranges: str | None = None
    """To which addresses it may be sent; None if somebody typed it in for just this one."""

    def may_be_sent(self, address: str) -> bool:
        """Whether it may be sent to an address."""
        return self.ranges is None or may_be_sent(self.ranges, address)

    def session(
        self, transport: Transport, family: AddressFamily, place: tuple[str, int], patience: Patience
    ) -> Session:
        """A session with it, where it may be sent to.

        Raises
        ------
        Fault
        """
        if not self.may_be_sent(place[0]):
            raise Fault(FaultKind.CREDENTIAL, refusal(self.name, self.ranges or "", place[0]))
        return Session(transport, family, place, self.credential, patience)


@dataclass(frozen=True, slots=True)
class Step:
    """What was tried and how it went. Times in milliseconds; ``at_ms`` counts from the beginning."""

    title: str
    went: str
    """ "well", "wrong", or "note" for what is neither"""
    words: str
    at_ms: float
    took_ms: float


@dataclass(slots=True)
class Outcome:
    """The result: the ways by which the device can be watched, best first, and what it is."""

    address: str = ""
    ways: list[str] = field(default_factory=list)
    credential: int | None = None
    credential_name: str = ""
    name: str = ""
    descr: str = ""
    object_id: str = ""
    maker: str = ""
    model: str = ""
    serial: str = ""
    engine_id: str = ""
    base_mac: str = ""
    ports: int = 0
    profile: str = ""


@dataclass(frozen=True, slots=True)
class Tried:
    """One way that was tried: how it went, and the credential's number if it was SNMP."""

    step: Step
    way: str
    credential: int = 0


class Trial:
    """One look at one address. The sockets are the caller's, so that many can share them."""

    def __init__(
        self,
        transport: Transport,
        pinger: Pinger,
        patience: Patience = QUICK,
        is_brief: bool = False,
        profiles: Sequence[Recognition] = (),
    ) -> None:
        """A brief trial reads a device's name only, not what it is made of."""
        self._profiles = profiles
        self.outcome = Outcome()
        self._is_brief = is_brief
        self._transport = transport
        self._pinger = pinger
        self._patience = patience
        self._began = time.monotonic()

    async def run(
        self, address: str, port: int, candidates: Sequence[Candidate], tcp_port: int | None = None
    ) -> AsyncIterator[Step]:
        """Try everything, and say so step by step; afterwards ``outcome`` is complete.

        Parameters
        ----------
        port : of SNMP, over UDP
        candidates : in the order of preference
        tcp_port : also try whether this one is open
        """
        began = time.monotonic()
        try:
            family, (resolved, _) = await asyncio.to_thread(resolve, address, port)
        except Fault as fault:
            yield self._step("name", "wrong", fault.words, began)
            return
        self.outcome.address = resolved
        if resolved != address:
            yield self._step("name", "well", f"is {resolved}", began)
        for candidate in [each for each in candidates if not each.may_be_sent(resolved)]:
            yield self._step(candidate.name, "note", refusal(candidate.name, candidate.ranges or "", resolved), began)
        candidates = [each for each in candidates if each.may_be_sent(resolved)]
        patience = self._patience
        asked: dict[str, Awaitable[float]] = {
            "ICMP echo": self._pinger.ping(family, resolved, patience.timeout, patience.tries)
        }
        if tcp_port:
            asked[f"TCP {tcp_port}"] = connect(family, resolved, tcp_port, patience.timeout, patience.tries)
        sessions = {
            c.number: Session(self._transport, family, (resolved, port), c.credential, patience) for c in candidates
        }
        tasks = [asyncio.create_task(self._ask(title, question)) for title, question in asked.items()]
        tasks += [asyncio.create_task(self._greet(candidate, sessions[candidate.number])) for candidate in candidates]
        answered: set[int] = set()
        try:
            for finished in asyncio.as_completed(tasks):
                tried = await finished
                if tried.step.went == "well":
                    self.outcome.ways.append(tried.way)
                    if tried.way == "snmp":
                        answered.add(tried.credential)
                yield tried.step
        finally:
            for task in tasks:
                task.cancel()
        self.outcome.ways = [way for way in ("snmp", "icmp", "tcp") if way in self.outcome.ways]
        chosen = next((candidate for candidate in candidates if candidate.number in answered), None)
        if chosen is not None:
            async for step in self._describe(chosen, sessions[chosen.number]):
                yield step
            better = next((c for c in candidates if c.number in answered and isinstance(c.credential, User)), None)
            if better is not None and not isinstance(chosen.credential, User):
                yield self._step(chosen.name, "note", better_than_community(better.name), time.monotonic())
        elif not candidates:
            yield self._step("SNMP", "note", "no credential was tried", time.monotonic())

    def _step(self, title: str, went: str, words: str, began: float) -> Step:
        now = time.monotonic()
        return Step(title, went, words, round(1000 * (began - self._began), 1), round(1000 * (now - began), 1))

    async def _ask(self, title: str, question: Awaitable[float]) -> Tried:
        began = time.monotonic()
        way = "icmp" if title.startswith("ICMP") else "tcp"
        try:
            took = await question
        except Fault as fault:
            went = "note" if fault.kind is FaultKind.REFUSED else "wrong"
            return Tried(self._step(title, went, fault.words, began), way)
        return Tried(self._step(title, "well", f"answers after {1000 * took:.1f} ms", began), way)

    async def _greet(self, candidate: Candidate, session: Session) -> Tried:
        began = time.monotonic()
        try:
            answer = await session.get([oids.SYS_UPTIME])
        except Fault as fault:
            return Tried(self._step(candidate.name, "wrong", fault.words, began), "snmp", candidate.number)
        uptime = answer.values[0]
        words = "answers, but does not show how long it is up (its view may be narrow)"
        if answer.tags[0] not in ber.ABSENT and isinstance(uptime, int):
            words = f"answers, up {duration(uptime / 100)}"
        return Tried(self._step(candidate.name, "well", words, began), "snmp", candidate.number)

    async def _describe(self, chosen: Candidate, session: Session) -> AsyncIterator[Step]:
        outcome, began = self.outcome, time.monotonic()
        outcome.credential, outcome.credential_name = chosen.number, chosen.name
        try:
            if self._is_brief:
                outcome.name = (await read_system(session)).sys_name
                return
            discovery = await discover(session, Plan())
        except Fault as fault:
            yield self._step("what it is", "wrong", fault.words, began)
            return
        said = discovery.said
        outcome.name, outcome.descr, outcome.object_id = said.sys_name, said.sys_descr, said.sys_object_id
        outcome.maker, outcome.model, outcome.ports = said.maker, said.model, len(discovery.ports)
        outcome.serial, outcome.engine_id, outcome.base_mac = said.serial, said.engine_id, said.base_mac
        words = ", ".join(word for word in (said.sys_name, " ".join(filter(None, (said.maker, said.model)))) if word)
        ports = f"{outcome.ports:,} {'interface' if outcome.ports == 1 else 'interfaces'}"
        yield self._step("what it is", "well", f"{words or 'it has no name'}, {ports}", began)
        yield self._recognised(said)
        if said.sys_descr:
            yield self._step("description", "well", said.sys_descr, time.monotonic())

    def _recognised(self, said: Described) -> Step:
        """The profile that fits, and why."""
        best = recognise(asdict(said), self._profiles)
        if best is None:
            return self._step("profile", "note", "none fits: the standard tables are read", time.monotonic())
        self.outcome.profile = best[0].name
        return self._step("profile", "well", f"{best[0].name}: {best[1]}", time.monotonic())
