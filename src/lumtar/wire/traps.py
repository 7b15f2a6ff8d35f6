"""Traps and inform requests as they arrive: version 1 (RFC 1157 section 4.1.6), 2c and 3 (RFC 3416 sections 4.2.6, 4.2.7)."""

import hmac
import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass, field

from lumtar.core.traps import Notification, Value, standard_oid
from lumtar.wire import ber, pdu, usm
from lumtar.wire.ber import Malformed
from lumtar.wire.notifications import INFORM, TRAP
from lumtar.wire.pdu import VarBinds

TRAP_1 = 0xA4
LONGEST = 32_768
"""Octets of a datagram that is looked at."""
MOST_OBJECTS = 200
SNMP_TRAP_OID = ber.oid_body("1.3.6.1.6.3.1.1.4.1.0")
SYS_UPTIME = ber.oid_body("1.3.6.1.2.1.1.3.0")


@dataclass(frozen=True, slots=True)
class Received:
    """A notification with what it has to be believed by.

    Attributes
    ----------
    community : of version 1 and 2c; None in version 3
    agent : the address that a version 1 trap names as its own; empty otherwise
    answer : what confirms it; empty if it is no inform request
    """

    notification: Notification
    community: bytes | None
    agent: str = ""
    answer: bytes = b""


class Refused(Exception):
    """A notification that is not believed, with the reason in words."""


def read_community(data: bytes) -> Received:
    """A notification of version 1 or 2c.

    Raises
    ------
    Malformed
    """
    version, at = pdu.read_version(data)
    community, at = ber.read_octets(data, at)
    kind, inner, _ = ber.read(data, at)
    if version == pdu.VERSION_1 and kind == TRAP_1:
        return _version_1(data, inner, community)
    if version != pdu.VERSION_2C or kind not in (TRAP, INFORM):
        raise Malformed(f"a message of version number {version} with a PDU {kind:#04x} is no notification")
    notification = _notification(pdu.read_pdu(data, at).binds)
    answer = pdu.community_message(community, _as_response(data, at)) if kind == INFORM else b""
    return Received(notification, community, answer=answer)


def _as_response(data: bytes, at: int) -> bytes:
    """The PDU with the same variable bindings as a response."""
    _, inner, end = ber.read(data, at)
    return ber.tlv(pdu.RESPONSE, data[inner:end])


def _version_1(data: bytes, at: int, community: bytes) -> Received:
    _, start, at = ber.read(data, at, ber.OBJECT_IDENTIFIER)
    enterprise = ber.dotted(data[start:at])
    _, start, at = ber.read(data, at, ber.IP_ADDRESS)
    agent = str(ipaddress.ip_address(data[start:at])) if at - start == 4 else ""
    generic, at = ber.read_integer(data, at)
    specific, at = ber.read_integer(data, at)
    _, _, at = ber.read(data, at, ber.TIME_TICKS)
    oid = standard_oid(enterprise, generic, specific)
    return Received(Notification(oid, _objects(pdu.read_binds(data, at))), community, agent)


def _notification(binds: VarBinds) -> Notification:
    if SNMP_TRAP_OID not in binds.oids[:8]:
        raise Malformed("it does not say which notification it is (snmpTrapOID)")
    place = binds.oids.index(SNMP_TRAP_OID)
    value = binds.values[place]
    if binds.tags[place] != ber.OBJECT_IDENTIFIER or not isinstance(value, bytes):
        raise Malformed("its snmpTrapOID is no object identifier")
    return Notification(ber.dotted(value), _objects(binds))


def _objects(binds: VarBinds) -> tuple[tuple[str, Value], ...]:
    found: list[tuple[str, Value]] = []
    for oid, tag, value in zip(binds.oids[:MOST_OBJECTS], binds.tags, binds.values, strict=False):
        if oid in (SYS_UPTIME, SNMP_TRAP_OID) or tag in ber.ABSENT:
            continue
        shown: Value = value
        if isinstance(value, bytes) and tag == ber.OBJECT_IDENTIFIER:
            shown = ber.dotted(value)
        elif isinstance(value, bytes) and tag == ber.IP_ADDRESS and len(value) == 4:
            shown = str(ipaddress.ip_address(value))
        found.append((ber.dotted(oid), shown))
    return tuple(found)


@dataclass(slots=True)
class Clock:
    """The latest that an engine said of its clock, and when by our monotonic one."""

    boots: int
    time: int
    at: float


@dataclass(slots=True)
class Engines:
    """What is known of the clocks of those that send version 3: an old message is not taken for a new one (RFC 3414 section 3.2, 7b)."""

    clocks: dict[bytes, Clock] = field(default_factory=dict)

    def read(self, data: bytes, users: Mapping[bytes, list[usm.User]], now: float) -> Received:
        """A trap of version 3 from a user that is known.

        Parameters
        ----------
        users : by name; several may have the same name with other passwords

        Raises
        ------
        Malformed, Refused
        """
        message = usm.read_message(data)
        known = users.get(message.user, [])
        if not known:
            raise Refused("the user is not known")
        for user in known:
            if message.flags & 3 != user.level:
                continue
            if user.level & usm.AUTH and not self._is_signed(user, message, data):
                continue
            if user.level & usm.AUTH:
                self._keep_time(message, now)
            return Received(self._opened(user, message), None)
        raise Refused("the password or the level of security is not the user's")

    @staticmethod
    def _is_signed(user: usm.User, message: usm.Message, data: bytes) -> bool:
        assert user.auth is not None
        if len(message.signature) != usm.SIGNATURE[user.auth]:
            return False
        key = usm.localized_key(user.auth, user.auth_password, message.engine_id)
        return usm.verify(user.auth, key, message, data)

    def _keep_time(self, message: usm.Message, now: float) -> None:
        clock = self.clocks.get(message.engine_id)
        if clock is not None:
            expected = clock.time + (now - clock.at)
            if message.boots < clock.boots or (
                message.boots == clock.boots and message.time < expected - usm.TIME_WINDOW
            ):
                raise Refused("it is older than what this device sent before")
            if message.boots == clock.boots and message.time <= clock.time:
                return
        self.clocks[message.engine_id] = Clock(message.boots, message.time, now)

    @staticmethod
    def _opened(user: usm.User, message: usm.Message) -> Notification:
        body = message.body
        if user.level & usm.PRIV:
            assert user.auth is not None and user.priv is not None
            key = usm.privacy_key(user.auth, user.priv, user.priv_password, message.engine_id)
            body = usm.decrypt(user.priv, key, message.boots, message.time, message.salt, body)
        at = usm.scoped_pdu_at(body)
        kind, _, _ = ber.read(body, at)
        if kind != TRAP:
            # Whoever asks for a confirmation in version 3 needs an engine at this end first.
            raise Refused("inform requests of version 3 are not taken; let the device send traps")
        return _notification(pdu.read_pdu(body, at).binds)


def is_community(said: bytes, known: str) -> bool:
    """Whether a community is the one that is known; how long this takes tells nothing of it."""
    return hmac.compare_digest(said, known.encode())
