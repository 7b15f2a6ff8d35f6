"""Speaking SNMP to one device; what the caller sees is the same for every version."""

import socket
import time
from collections.abc import Sequence
from dataclasses import dataclass, field

from lumtar.wire import ber, pdu, usm
from lumtar.wire.ber import Malformed
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.pdu import Pdu, VarBinds
from lumtar.wire.transport import Address, Transport

REPORTS = {
    ber.oid_body("1.3.6.1.6.3.15.1.1.1.0"): (
        FaultKind.LEVEL,
        "answered, but does not allow this security level for this user",
    ),
    ber.oid_body("1.3.6.1.6.3.15.1.1.2.0"): (
        FaultKind.TIME_WINDOW,
        "answered, but its clock and ours are too far apart (not in time window)",
    ),
    ber.oid_body("1.3.6.1.6.3.15.1.1.3.0"): (FaultKind.UNKNOWN_USER, "answered, but does not know this user name"),
    ber.oid_body("1.3.6.1.6.3.15.1.1.4.0"): (FaultKind.GARBLED, "answered with another engine id each time"),
    ber.oid_body("1.3.6.1.6.3.15.1.1.5.0"): (
        FaultKind.WRONG_KEY,
        "answered, but rejected the user's authentication key (wrong password or protocol)",
    ),
    ber.oid_body("1.3.6.1.6.3.15.1.1.6.0"): (
        FaultKind.DECRYPTION,
        "answered, but could not decrypt the request (wrong privacy password or protocol)",
    ),
}
NOT_IN_TIME = ber.oid_body("1.3.6.1.6.3.15.1.1.2.0")
UNKNOWN_ENGINE = ber.oid_body("1.3.6.1.6.3.15.1.1.4.0")


@dataclass(frozen=True, slots=True)
class Community:
    """How a device is spoken to in version 1 or 2c. The community never prints."""

    name: str = field(repr=False)
    version: int = pdu.VERSION_2C


Credential = Community | usm.User


@dataclass(frozen=True, slots=True)
class Patience:
    """How long to wait for an answer, and how often to ask."""

    timeout: float = 2.0
    tries: int = 3


NAMES = {pdu.GET: "GET", pdu.GET_NEXT: "GETNEXT", pdu.GET_BULK: "GETBULK"}


@dataclass(frozen=True, slots=True)
class Exchange:
    """One request and what became of it. ``first`` is the first object asked for; ``fault`` is empty if all went well."""

    kind: str
    asked: int
    first: str
    answers: int
    took_ms: float
    fault: str = ""


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
            return await self._one_by_one(pdu.GET, list(oids))
        return await self._exchange(pdu.GET, list(oids), 0, 0)

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
        found = VarBinds(list(oids), [ber.NO_SUCH_INSTANCE] * len(oids), [b""] * len(oids))
        while left:
            try:
                binds = await self._exchange(kind, list(left.values()), 0, 0)
            except MissingName as missing:
                left.pop(list(left)[missing.place])
                continue
            for place, oid, tag, value in zip(left, binds.oids, binds.tags, binds.values, strict=False):
                found.oids[place], found.tags[place], found.values[place] = oid, tag, value
            break
        return found

    async def _exchange(self, kind: int, oids: list[bytes], first: int, second: int) -> VarBinds:
        began = time.monotonic()
        self.requests += 1
        try:
            if isinstance(self._credential, Community):
                answer = await self._ask_community(self._credential, kind, oids, first, second)
            else:
                answer = await self._ask_user(self._credential, kind, oids, first, second)
        except Fault as fault:
            self._note(kind, oids, 0, began, fault.words)
            raise
        self.rtt = time.monotonic() - began
        if self.trace is not None:
            status = answer.error_status
            name = pdu.ERROR_STATUS[status] if status < len(pdu.ERROR_STATUS) else str(status)
            self._note(kind, oids, len(answer.binds.oids), began, f"answered with the error {name}" if status else "")
        self.varbinds += len(answer.binds.oids)
        if answer.error_status == pdu.TOO_BIG:
            raise TooBig(FaultKind.ERROR_STATUS, "answered that its answer would be too big (tooBig)")
        if answer.error_status in (pdu.AUTHORIZATION_ERROR, pdu.NO_ACCESS):
            raise Fault(FaultKind.REFUSED, "answered, but refused access (authorizationError)")
        if answer.error_status == pdu.NO_SUCH_NAME and 0 < answer.error_index <= len(oids):
            raise MissingName(answer.error_index - 1)
        if answer.error_status:
            known = answer.error_status < len(pdu.ERROR_STATUS)
            name = pdu.ERROR_STATUS[answer.error_status] if known else str(answer.error_status)
            raise Fault(FaultKind.ERROR_STATUS, f"answered with the error {name}")
        return answer.binds

    def _note(self, kind: int, oids: list[bytes], answers: int, began: float, fault: str) -> None:
        if self.trace is not None:
            first = ber.dotted(oids[0]) if oids else ""
            took = round(1000 * (time.monotonic() - began), 1)
            self.trace.append(Exchange(NAMES[kind], len(oids), first, answers, took, fault))

    async def _ask_community(self, credential: Community, kind: int, oids: list[bytes], first: int, second: int) -> Pdu:
        number = self._transport.next_id()
        request = pdu.request(kind, number, oids, first, second)
        message = pdu.community_message(credential.name.encode(), request, credential.version)
        try:
            data = await self._transport.ask(
                self._family, self.address, number, message, self.patience.timeout, self.patience.tries
            )
        except Fault as fault:
            if fault.kind is FaultKind.NO_ANSWER and self.varbinds == 0:
                raise Fault(fault.kind, fault.words + " (a wrong community looks the same)") from fault
            raise
        try:
            _, answer = pdu.read_community_message(data, credential.version)
            return _checked(answer, number)
        except Malformed as malformed:
            raise self._garbled(malformed) from malformed

    def _garbled(self, malformed: Malformed) -> Fault:
        self._transport.reject(self.address, str(malformed))
        return Fault(FaultKind.GARBLED, f"answered with something that is not SNMP: {malformed}")

    async def _ask_user(self, user: usm.User, kind: int, oids: list[bytes], first: int, second: int) -> Pdu:
        discovered = self._engine is None
        # An engine that restarted or went out of step is believed once; then its report stands.
        for last in (False, False, True):
            if self._engine is None:
                await self._discover()
            try:
                data, number = await self._send_user(user, kind, oids, first, second)
            except Fault as fault:
                if fault.kind is FaultKind.NO_ANSWER and discovered and user.priv:
                    words = "answered the greeting, not the encrypted request: the privacy password or protocol may be wrong"
                    raise Fault(FaultKind.DECRYPTION, words) from fault
                raise
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
        self, user: usm.User, kind: int, oids: list[bytes], first: int, second: int
    ) -> tuple[bytes, int]:
        assert self._engine is not None
        engine_id, boots, started = self._engine
        number = self._transport.next_id()
        plain = usm.scoped(engine_id, b"", pdu.request(kind, number, oids, first, second))
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
