"""Traps that stand-ins send: links that go down and come up, starts, and a last word before the power is gone."""

import itertools
import socket
from collections.abc import Mapping

from lab.device import Device, engine_id
from lab.scenario import COMMUNITY
from lumtar.core.traps import IF_ADMIN_STATUS, IF_INDEX, IF_OPER_STATUS, LINK_UP
from lumtar.wire import ber, usm
from lumtar.wire.notifications import TRAP, notification

SYS_UPTIME, TRAP_OID = "1.3.6.1.2.1.1.3.0", "1.3.6.1.6.3.1.1.4.1.0"
UP, DOWN = 1, 2


class Traps:
    """Sends traps of all devices to one receiver on this machine."""

    def __init__(self, devices: Mapping[str, Device], port: int, user: usm.User) -> None:
        self._receiver = "127.0.0.1", port
        self._user = user
        self._numbers = itertools.count(1)
        for device in devices.values():
            device.says = self._send

    def _send(self, device: Device, oid: str, if_index: int | None) -> None:
        now = device.clock()
        binds = [
            (SYS_UPTIME, ber.integer(device.uptime(now), ber.TIME_TICKS)),
            (TRAP_OID, ber.tlv(ber.OBJECT_IDENTIFIER, ber.oid_body(oid))),
        ]
        if if_index is not None:
            state = ber.integer(UP if oid == LINK_UP else DOWN)
            binds += [
                (f"{IF_INDEX}.{if_index}", ber.integer(if_index)),
                (f"{IF_ADMIN_STATUS}.{if_index}", ber.integer(DOWN if device.is_off(if_index) else UP)),
                (f"{IF_OPER_STATUS}.{if_index}", state),
            ]
        number = next(self._numbers)
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as outlet:
            try:
                outlet.bind((device.box.address, 0))
                outlet.sendto(self._message(device, number, binds, int(now - device.boot(now))), self._receiver)
            except OSError:
                # Nobody listens; a device does not mind.
                return

    def _message(self, device: Device, number: int, binds: list[tuple[str, bytes]], time: int) -> bytes:
        if not device.box.version3:
            return notification(COMMUNITY.encode(), number, binds, confirmed=False)
        body = b"".join(
            ber.tlv(ber.SEQUENCE, ber.tlv(ber.OBJECT_IDENTIFIER, ber.oid_body(oid)) + value) for oid, value in binds
        )
        head = ber.integer(number) + ber.integer(0) + ber.integer(0)
        engine = engine_id(device.box.name)
        scoped = usm.scoped(engine, b"", ber.tlv(TRAP, head + ber.tlv(ber.SEQUENCE, body)))
        return usm.write_message(
            number, self._user.level, engine, int(device.boot(device.clock())) & 0x7FFFFFFF, time, self._user, scoped
        )
