"""Speaking SNMP to one device; what the caller sees is the same for every version."""

import socket
import time
from collections.abc import Sequence
from dataclasses import dataclass, field

from lumtar.wire import ber, pdu, smi, usm
from lumtar.wire.ber import Malformed
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.pdu import Pdu, VarBinds
from lumtar.wire.refusals import NOT_IN_TIME, NOT_SET, REPORTS, UNKNOWN_ENGINE
from lumtar.wire.transport import Address, Transport


@dataclass(frozen=True, slots=True)
class Community:
    """How a device is spoken to in version 1 or 2c. The community never prints."""

    name: str = field(repr=False)
    version: int = pdu.VERSION_2C


Credential = Community | usm.User


MOST_OCTETS = 32 << 20
"""That one device may give in one poll. Twenty thousand interfaces give about ten million."""
MOST_HELD = 256 << 20
"""That all polls which are under way may have been given together."""
MOST_REFUSED = 20
"""Objects of which it is kept what was refused."""


@dataclass(frozen=True, slots=True)
class Patience:
    """How long to wait for an answer, and how often to ask."""

    timeout: float = 2.0
    tries: int = 3


NAMES = {pdu.GET: "GET", pdu.GET_NEXT: "GETNEXT", pdu.GET_BULK: "GETBULK", pdu.SET: "SET"}


@dataclass(frozen=True, slots=True)
class Exchange:
    """One request and what became of it. ``first`` is the first object asked for; ``fault`` is empty if all went well."""

    kind: str
    asked: int
    first: str
    answers: int
    took_ms: float
    fault: str = ""


@dataclass(slots=True)
class Refused:
    """Values of an object that were not believed: how many, and what was wrong with the first."""

    words: str
    count: int = 1


class Session:
    """One device. A session sends one request at a time.

    Raises
    ------
    Fault
        from every method that asks, with the reason in plain words
    """

    def __init__(
        self,
        transport: Transport,
        family: socket.AddressFamily,
        address: Address,
        credential: Credential,
        patience: Patience = Patience(),
    ) -> None:
        self.address = address
        self.rtt = 0.0
        """Seconds from the last request to its answer."""
        self.varbinds = 0
        """Variable bindings received in all."""
        self.requests = 0
        """Requests sent in all, each tried again counted once."""
        self.octets = 0
        """Octets received since the last :meth:`start_over`."""
        self.refused: dict[str, Refused] = {}
        """What was given since then and does not fit its type, by the name of the object."""
        self.patience = patience
        self.trace: list[Exchange] | None = None
        """Set it to a list, and every exchange is written down there."""
        self._transport = transport
        self._family = family
        self._credential = credential
        self._engine: tuple[bytes, int, float] | None = None

    async def get(self, oids: Sequence[bytes]) -> VarBinds:
        """Read encoded object identifiers; those that are not there have an absent tag (``ber.ABSENT``)."""
        if self._is_version_1:
            answer = await self._one_by_one(pdu.GET, list(oids))
        else:
            answer = await self._exchange(pdu.GET, list(oids), 0, 0)
        if len(answer.oids) < len(oids):
            words = f"answered {len(oids)} objects with {len(answer.oids)}"
            raise Fault(FaultKind.GARBLED, words)
        for place, oid in enumerate(answer.oids):
            syntax = smi.SYNTAX.get(oid)
            if syntax is None or answer.tags[place] in ber.ABSENT or syntax.fits(answer.values[place]):
                continue
            self.refuse(syntax.name, f"{smi.shown(answer.values[place])} is not {syntax.words}")
            answer.tags[place], answer.values[place] = ber.OUT_OF_RANGE, b""
        return answer

    def start_over(self) -> None:
        """Begin to count anew what is received and refused."""
        self.give_back()
        self.refused = {}

    def give_back(self) -> None:
        """What was received is not needed any more: others have room again."""
        self._transport.held -= self.octets
        self.octets = 0

    def __del__(self) -> None:
        # However a look at a device ended, the room that it took belongs to the others again.
        self.give_back()

    def refuse(self, name: str, words: str) -> None:
        """Note that a value was not believed."""
        if name in self.refused:
            self.refused[name].count += 1
        elif len(self.refused) < MOST_REFUSED:
            self.refused[name] = Refused(words)

    def _hold(self, octets: int) -> None:
        """Count what was received.

        Raises
        ------
        Fault
            TOO_MUCH if this device alone, or all together, give more than there is room for
        """
        self.octets += octets
        self._transport.held += octets
        if self.octets > MOST_OCTETS:
            words = f"gives more than {MOST_OCTETS >> 20} MiB in one poll; reading was given up"
            raise Fault(FaultKind.TOO_MUCH, words)
        if self._transport.held > MOST_HELD and self.octets > MOST_HELD >> 8:
            words = "gives so much that, with what others give, there is no room for it; reading was given up"
            raise Fault(FaultKind.TOO_MUCH, words)

    async def set(self, oid: bytes, value: bytes) -> None:
        """Set one object to an encoded value (RFC 3416 section 4.2.5).

        Raises
        ------
        Fault
            NOT_SET if the device refuses, with its reason
        """
        await self._exchange(pdu.SET, [oid], 0, 0, [value])

    async def bulk(self, oids: Sequence[bytes], repetitions: int) -> VarBinds:
        """Read what follows encoded object identifiers; a device that finds the answer too big is asked for less."""
        if self._is_version_1:
            return await self._one_by_one(pdu.GET_NEXT, list(oids))
        while True:
            try:
                return await self._exchange(pdu.GET_BULK, list(oids), 0, repetitions)
            except TooBig:
                if repetitions == 1:
                    raise
                repetitions = max(1, repetitions // 2)

    @property
    def _is_version_1(self) -> bool:
        return isinstance(self._credential, Community) and self._credential.version == pdu.VERSION_1

    async def _one_by_one(self, kind: int, oids: list[bytes]) -> VarBinds:
        """Ask in version 1, which refuses a whole request for one missing object: that one is left out then."""
        left = dict(enumerate(oids))
        answer = VarBinds(list(oids), [ber.NO_SUCH_INSTANCE] * len(oids), [b""] * len(oids))
        while left:
            try:
                binds = await self._exchange(kind, list(left.values()), 0, 0)
            except MissingName as missing:
                left.pop(list(left)[missing.place])
                continue
            for place, oid, tag, value in zip(left, binds.oids, binds.tags, binds.values, strict=False):
                answer.oids[place], answer.tags[place], answer.values[place] = oid, tag, value
            break
        return answer

    async def _exchange(
        self, kind: int, oids: list[bytes], first: int, second: int, values: Sequence[bytes] = ()
    ) -> VarBinds:
        began = time.monotonic()
        self.requests += 1
        try:
            if isinstance(self._credential, Community):
                answer = await self._ask_community(self._credential, kind, oids, first, second, values)
            else:
                answer = await self._ask_user(self._credential, kind, oids, first, second, values)
        except Fault as fault:
            self._note(kind, oids, 0, began, fault.words)
            raise
        self.rtt = time.monotonic() - began
        if self.trace is not None:
            words = f"answered with the error {answer.error}" if answer.error else ""
            self._note(kind, oids, len(answer.binds.oids), began, words)
        self.varbinds += len(answer.binds.oids)
        if ber.OUT_OF_RANGE in answer.binds.tags:
            for oid, tag, value in zip(answer.binds.oids, answer.binds.tags, answer.binds.values, strict=True):
                if tag == ber.OUT_OF_RANGE:
                    self.refuse(smi.name_of(oid), f"{_odd(value)} does not fit its type")
        if kind == pdu.SET and answer.error:
            words = NOT_SET.get(answer.error, f"the device answered with the error {answer.error}")
            raise Fault(FaultKind.NOT_SET, words)
        if answer.error_status == pdu.TOO_BIG:
            raise TooBig(FaultKind.ERROR_STATUS, "answered that its answer would be too big (tooBig)")
        if answer.error_status in (pdu.AUTHORIZATION_ERROR, pdu.NO_ACCESS):
            raise Fault(FaultKind.REFUSED, "answered, but refused access (authorizationError)")
        if answer.error_status == pdu.NO_SUCH_NAME and 0 < answer.error_index <= len(oids):
            raise MissingName(answer.error_index - 1)
        if answer.error:
            raise Fault(FaultKind.ERROR_STATUS, f"answered with the error {answer.error}")
        return answer.binds

    def _note(self, kind: int, oids: list[bytes], answers: int, began: float, fault: str) -> None:
        if self.trace is not None:
            first = ber.dotted(oids[0]) if oids else ""
            took = round(1000 * (time.monotonic() - began), 1)
            self.trace.append(Exchange(NAMES[kind], len(oids), first, answers, took, fault))

    async def _ask_community(
        self, credential: Community, kind: int, oids: list[bytes], first: int, second: int, values: Sequence[bytes]
    ) -> Pdu:
        number = self._transport.next_id()
        request = pdu.request(kind, number, oids, first, second, values)
        message = pdu.community_message(credential.name.encode(), request, credential.version)
        try:
            data = await self._transport.ask(
                self._family, self.address, number, message, self.patience.timeout, self.patience.tries
            )
        except Fault as fault:
            if fault.kind is FaultKind.NO_ANSWER and self.varbinds == 0:
                raise Fault(fault.kind, fault.words + " (a wrong community looks the same)") from fault
            raise
        self._hold(len(data))
        try:
            _, answer = pdu.read_community_message(data, credential.version)
            return _checked(answer, number)
        except Malformed as malformed:
            raise self._garbled(malformed) from malformed

    def _garbled(self, malformed: Malformed) -> Fault:
        self._transport.reject(self.address, str(malformed))
        return Fault(FaultKind.GARBLED, f"answered with something that is not SNMP: {malformed}")

    async def _ask_user(
        self, user: usm.User, kind: int, oids: list[bytes], first: int, second: int, values: Sequence[bytes]
    ) -> Pdu:
        discovered = self._engine is None
        # An engine that restarted or went out of step is believed once; then its report stands.
        for last in (False, False, True):
            if self._engine is None:
                await self._discover()
            try:
                data, number = await self._send_user(user, kind, oids, first, second, values)
            except Fault as fault:
                if fault.kind is FaultKind.NO_ANSWER and discovered and user.priv:
                    words = "answered the greeting, not the encrypted request: the privacy password or protocol may be wrong"
                    raise Fault(FaultKind.DECRYPTION, words) from fault
                raise
            self._hold(len(data))
            try:
                answer = self._open(user, data)
                if answer.kind != pdu.REPORT:
                    return _checked(answer, number)
            except Malformed as malformed:
                raise self._garbled(malformed) from malformed
            report = answer.binds.oids[0] if answer.binds.oids else b""
            if report == UNKNOWN_ENGINE and not last:
                self._engine = None
            elif report != NOT_IN_TIME or last:
                self._engine = None
                raise Fault(*REPORTS.get(report, (FaultKind.GARBLED, f"answered with the report {ber.dotted(report)}")))
        raise AssertionError("unreachable")

    async def _send_user(
        self, user: usm.User, kind: int, oids: list[bytes], first: int, second: int, values: Sequence[bytes]
    ) -> tuple[bytes, int]:
        assert self._engine is not None
        engine_id, boots, started = self._engine
        number = self._transport.next_id()
        plain = usm.scoped(engine_id, b"", pdu.request(kind, number, oids, first, second, values))
        flags = user.level | usm.REPORTABLE
        now = int(time.monotonic() - started)
        try:
            message = usm.write_message(number, flags, engine_id, boots, now, user, plain)
        except ValueError as short:
            raise Fault(FaultKind.CREDENTIAL, str(short)) from short
        data = await self._transport.ask(
            self._family, self.address, number, message, self.patience.timeout, self.patience.tries
        )
        return data, number

    async def _discover(self) -> None:
        """Learn the engine's id and clock (RFC 3414 section 4)."""
        number = self._transport.next_id()
        plain = usm.scoped(b"", b"", pdu.request(pdu.GET, number, []))
        message = usm.write_message(number, usm.REPORTABLE, b"", 0, 0, usm.User(""), plain)
        data = await self._transport.ask(
            self._family, self.address, number, message, self.patience.timeout, self.patience.tries
        )
        try:
            answer = usm.read_message(data)
        except Malformed as malformed:
            raise self._garbled(malformed) from malformed
        if not answer.engine_id:
            raise Fault(FaultKind.GARBLED, "answered the greeting without an engine id")
        self._engine = (answer.engine_id, answer.boots, time.monotonic() - answer.time)

    def _open(self, user: usm.User, data: bytes) -> Pdu:
        """Verify, decrypt and decode an answer."""
        message = usm.read_message(data)
        body = message.body
        if message.flags & usm.AUTH and user.auth:
            key = usm.localized_key(user.auth, user.auth_password, message.engine_id)
            if not usm.verify(user.auth, key, message, data):
                raise Fault(FaultKind.WRONG_KEY, "answered with a signature that this user's key does not confirm")
            self._engine = (message.engine_id, message.boots, time.monotonic() - message.time)
        if message.flags & usm.PRIV and user.auth and user.priv:
            key = usm.privacy_key(user.auth, user.priv, user.priv_password, message.engine_id)
            body = usm.decrypt(user.priv, key, message.boots, message.time, message.salt, body)
        answer = pdu.read_pdu(body, usm.scoped_pdu_at(body))
        if answer.kind != pdu.REPORT and message.flags & 3 != user.level:
            raise Fault(FaultKind.LEVEL, "answered at a lower security level than it was asked at")
        return answer


def _odd(value: pdu.Value) -> str:
    """A number that its type cannot hold; ``value`` are its first octets."""
    if isinstance(value, bytes) and 0 < len(value) < pdu.ODD:
        return str(int.from_bytes(value, "big"))
    return "a number of no octets" if not value else f"a number of {pdu.ODD} octets or more"


class TooBig(Fault):
    """The answer did not fit; less can be asked for."""


class MissingName(Fault):
    """Version 1: one object of the request is not there (RFC 1157 section 4.1.2). ``place`` counts from 0."""

    def __init__(self, place: int) -> None:
        super().__init__(FaultKind.ERROR_STATUS, "answered with the error noSuchName")
        self.place = place


def _checked(answer: Pdu, number: int) -> Pdu:
    if answer.kind != pdu.RESPONSE:
        raise Malformed(f"it is a PDU of type {answer.kind:#04x}, not a response")
    if answer.request_id != number:
        raise Malformed("it carries the number of another request")
    return answer
