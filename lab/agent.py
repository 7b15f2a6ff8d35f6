"""The stand-ins' SNMP: version 2c and version 3 with authentication and privacy, GET, GETNEXT and GETBULK."""

import asyncio
import random
import socket

from lab.device import Device, engine_id
from lab.mib import bind
from lab.writing import write
from lumtar.wire import ber, pdu, usm
from lumtar.wire.ber import Malformed

LARGEST = 1452
"""Octets of variable bindings that fit a datagram: a GETBULK's answer ends there."""
STATS = "1.3.6.1.6.3.15.1.1."


class Agent:
    """Answers on one address for one device."""

    def __init__(
        self,
        device: Device,
        address: str,
        port: int,
        community: str,
        user: usm.User | None = None,
        write_community: str = "",
        writer: usm.User | None = None,
    ) -> None:
        self.device = device
        self.address = (address, port)
        self._community = community.encode()
        self._user = user
        self._write_community = write_community.encode()
        self._users = {each.name.encode(): each for each in (user, writer) if each}
        self._writer = writer
        self._engine_id = engine_id(device.box.name)
        self._loop = asyncio.get_running_loop()
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        self._socket = socket.socket(family, socket.SOCK_DGRAM)
        self._socket.setblocking(False)
        self._socket.bind(self.address)
        self._loop.add_reader(self._socket, self._readable)
        self._dice = random.Random(device.box.seed)
        self.largest = LARGEST

    def close(self) -> None:
        """Stop answering."""
        self._loop.remove_reader(self._socket)
        self._socket.close()

    def _readable(self) -> None:
        for _ in range(64):
            try:
                data, sender = self._socket.recvfrom(65535)
            except BlockingIOError:
                return
            manners = self.device.manners
            if self.device.silent or self._dice.random() < manners.loss:
                continue
            answer = self.answer(data)
            if answer is None:
                continue
            if manners.delay:
                self._loop.call_later(manners.delay, self._send, answer, sender)
            else:
                self._send(answer, sender)

    def _send(self, answer: bytes, sender: tuple[str, int]) -> None:
        manners = self.device.manners
        if manners.cut_short:
            answer = answer[: len(answer) * 2 // 3]
        if self._socket.fileno() < 0:
            return
        outlet = self._socket
        if manners.other_address:
            outlet = socket.socket(self._socket.family, socket.SOCK_DGRAM)
            outlet.bind((self.address[0], 0))
        for _ in range(2 if manners.twice else 1):
            outlet.sendto(answer, sender)
        if outlet is not self._socket:
            outlet.close()

    def answer(self, data: bytes) -> bytes | None:
        """The answer to a datagram; None for whatever an agent keeps silent about."""
        try:
            version, _ = pdu.read_version(data)
            if version == pdu.VERSION_3:
                return self._answer_user(data) if self._user else None
            community, request = pdu.read_community_message(data, version)
        except Malformed:
            return None
        may_write = bool(self._write_community) and community == self._write_community
        if (community != self._community and not may_write) or self._user:
            return None
        if version == pdu.VERSION_1:
            return pdu.community_message(community, self._respond_version_1(request), version)
        return pdu.community_message(community, self._respond(request, may_write=may_write))

    def _respond_version_1(self, request: pdu.Pdu) -> bytes:
        """One missing object, or one that is a Counter64, refuses the whole request (RFC 2576 section 4.2)."""
        at = self.device.clock()
        binds = []
        for place, oid in enumerate(request.binds.oids, 1):
            if request.kind == pdu.GET:
                value = self.device.mib.exact(oid, at)
                answer = None if value is None or value[0] == ber.COUNTER64 else bind(oid, value)
            else:
                answer = next((each for each in self.device.mib.run(oid, 500, at) if _fits_version_1(each)), None)
            if answer is None:
                head = ber.integer(request.request_id) + ber.integer(pdu.NO_SUCH_NAME) + ber.integer(place)
                return ber.tlv(pdu.RESPONSE, head + ber.tlv(ber.SEQUENCE, b""))
            binds.append(answer)
        head = ber.integer(request.request_id) + b"\x02\x01\x00\x02\x01\x00"
        return ber.tlv(pdu.RESPONSE, head + ber.tlv(ber.SEQUENCE, b"".join(binds)))

    def _respond(self, request: pdu.Pdu, *, may_write: bool = False) -> bytes:
        at = self.device.clock()
        if request.kind == pdu.SET:
            return self._written(request, may_write=may_write)
        find = self.device.mib
        binds: list[bytes]
        if request.kind == pdu.GET:
            binds = []
            for oid in request.binds.oids:
                value = find.exact(oid, at)
                binds.append(bind(oid, bytes((ber.NO_SUCH_INSTANCE, 0)) if value is None else value))
        elif request.kind == pdu.GET_NEXT:
            binds = [find.run(oid, 1, at)[0] for oid in request.binds.oids]
        else:
            binds = self._bulk(request, at)
        number = request.request_id ^ (1 if self.device.manners.wrong_number else 0)
        head = ber.integer(number) + b"\x02\x01\x00\x02\x01\x00"
        return ber.tlv(pdu.RESPONSE, head + ber.tlv(ber.SEQUENCE, b"".join(binds)))

    def _written(self, request: pdu.Pdu, *, may_write: bool) -> bytes:
        """The answer to a SET: the same bindings, and what came of it."""
        status, binds = pdu.NO_ACCESS if not may_write else 0, request.binds
        for oid, tag, value in zip(binds.oids, binds.tags, binds.values, strict=True):
            status = status or write(self.device, oid, tag, value)
        echoed = [
            bind(oid, ber.integer(value) if isinstance(value, int) else ber.tlv(tag, value))
            for oid, tag, value in zip(binds.oids, binds.tags, binds.values, strict=True)
        ]
        head = ber.integer(request.request_id) + ber.integer(status) + ber.integer(1 if status else 0)
        return ber.tlv(pdu.RESPONSE, head + ber.tlv(ber.SEQUENCE, b"".join(echoed)))

    def _bulk(self, request: pdu.Pdu, at: float) -> list[bytes]:
        single, repetitions = max(0, request.error_status), max(0, min(request.error_index, 200))
        oids = request.binds.oids
        find = self.device.mib
        binds = [find.run(oid, 1, at)[0] for oid in oids[:single]]
        runs = [find.run(oid, repetitions, at) for oid in oids[single:]]
        size = sum(map(len, binds))
        for row in range(repetitions):
            for run in runs:
                each = run[row] if row < len(run) else run[-1]
                size += len(each)
                if size > self.largest and binds:
                    return binds
                binds.append(each)
        return binds

    def _answer_user(self, data: bytes) -> bytes | None:
        """Version 3, as the authoritative engine (RFC 3414 section 3.2)."""
        message = usm.read_message(data)
        if message.engine_id != self._engine_id:
            return self._report(message, 4, 0)
        user = self._users.get(message.user)
        if user is None:
            return self._report(message, 3, 0)
        if message.flags & 3 != user.level:
            return self._report(message, 1, 0)
        body = message.body
        if user.auth:
            key = usm.localized_key(user.auth, user.auth_password, self._engine_id)
            if not usm.verify(user.auth, key, message, data):
                return self._report(message, 5, 0)
            if message.boots != self._boots or abs(message.time - self._time) > usm.TIME_WINDOW:
                return self._report(message, 2, usm.AUTH)
        if message.flags & usm.PRIV and user.auth and user.priv:
            key = usm.privacy_key(user.auth, user.priv, user.priv_password, self._engine_id)
            try:
                body = usm.decrypt(user.priv, key, message.boots, message.time, message.salt, body)
                at = usm.scoped_pdu_at(body)
            except Malformed:
                return self._report(message, 6, usm.AUTH)
        else:
            at = usm.scoped_pdu_at(body)
        answer = self._respond(pdu.read_pdu(body, at), may_write=user is self._writer)
        return self._wrap(message.message_id, user.level, user, answer)

    @property
    def _boots(self) -> int:
        return int(self.device.boot(self.device.clock())) & 0x7FFFFFFF

    @property
    def _time(self) -> int:
        now = self.device.clock()
        return int(now - self.device.boot(now))

    def _wrap(self, number: int, flags: int, user: usm.User, answer: bytes) -> bytes:
        plain = usm.scoped(self._engine_id, b"", answer)
        return usm.write_message(number, flags, self._engine_id, self._boots, self._time, user, plain)

    def _report(self, message: usm.Message, statistic: int, flags: int) -> bytes | None:
        if not message.flags & usm.REPORTABLE:
            return None
        binds = bind(ber.oid_body(f"{STATS}{statistic}.0"), ber.integer(1, ber.COUNTER32))
        head = ber.integer(0) + b"\x02\x01\x00\x02\x01\x00"
        report = ber.tlv(pdu.REPORT, head + ber.tlv(ber.SEQUENCE, binds))
        known = self._users.get(message.user) if flags else None
        user = known or usm.User(message.user.decode("utf-8", "replace"))
        return self._wrap(message.message_id, flags, user, report)


def _fits_version_1(binding: bytes) -> bool:
    _, at, _ = ber.read(binding, 0, ber.SEQUENCE)
    _, _, value_at = ber.read(binding, at)
    return binding[value_at] not in (ber.COUNTER64, *ber.ABSENT)
