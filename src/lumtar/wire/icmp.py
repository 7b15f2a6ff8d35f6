"""ICMP echo (RFC 792, RFC 4443): one shared socket an address family, however many addresses."""

import asyncio
import os
import socket
import struct
import time
from dataclasses import dataclass

from lumtar.wire.faults import Fault, FaultKind

ECHO = {socket.AF_INET: 8, socket.AF_INET6: 128}
ECHO_REPLY = {socket.AF_INET: 0, socket.AF_INET6: 129}
PROTOCOL = {socket.AF_INET: socket.IPPROTO_ICMP, socket.AF_INET6: socket.IPPROTO_ICMPV6}
HEADER = struct.Struct("!BBHHH")
BUFFER = 1 << 20
ICMP6_FILTER = 1


def checksum(data: bytes) -> int:
    """The Internet checksum (RFC 1071)."""
    if len(data) % 2:
        data += b"\0"
    total = sum(struct.unpack(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return int(~total & 0xFFFF)


def echo_request(family: socket.AddressFamily, identifier: int, sequence: int, payload: bytes) -> bytes:
    """An echo request. For version 6 the kernel fills in the checksum, which covers addresses too."""
    blank = HEADER.pack(ECHO[family], 0, 0, identifier, sequence) + payload
    if family == socket.AF_INET6:
        return blank
    return blank[:2] + checksum(blank).to_bytes(2, "big") + blank[4:]


def may_ping(family: socket.AddressFamily = socket.AF_INET) -> bool:
    """Whether this process may send echo requests at all."""
    try:
        open_socket(family)[0].close()
    except PermissionError:
        return False
    except OSError:
        return False
    return True


def open_socket(family: socket.AddressFamily) -> tuple[socket.socket, bool]:
    """A socket for ICMP, and whether it is raw: that one needs rights and hears everybody's replies."""
    try:
        return socket.socket(family, socket.SOCK_DGRAM, PROTOCOL[family]), False
    except PermissionError:
        return socket.socket(family, socket.SOCK_RAW, PROTOCOL[family]), True


@dataclass(slots=True)
class _Outlet:
    socket: socket.socket
    is_raw: bool
    identifier: int


class Pinger:
    """Asks for echoes. Use it from one event loop only, and close it."""

    def __init__(self) -> None:
        self._loop = asyncio.get_running_loop()
        self._outlets: dict[socket.AddressFamily, _Outlet] = {}
        self._waiting: dict[bytes, tuple[asyncio.Future[float], str]] = {}
        self._sequence = 0

    def close(self) -> None:
        """Close the sockets; whatever waits fails."""
        for outlet in self._outlets.values():
            self._loop.remove_reader(outlet.socket)
            outlet.socket.close()
        self._outlets.clear()
        for future, _ in self._waiting.values():
            future.cancel()
        self._waiting.clear()

    async def ping(self, family: socket.AddressFamily, address: str, timeout: float = 1.0, tries: int = 2) -> float:
        """Seconds from the last request to its reply.

        Raises
        ------
        Fault
            NO_ANSWER, UNREACHABLE, or REFUSED if this machine does not let Lumtar send ICMP
        """
        outlet = self._outlet(family)
        for _ in range(tries):
            self._sequence = (self._sequence + 1) & 0xFFFF
            token = os.urandom(8)
            future: asyncio.Future[float] = self._loop.create_future()
            self._waiting[token] = future, address
            began = time.monotonic()
            try:
                message = echo_request(family, outlet.identifier, self._sequence, token)
                outlet.socket.sendto(message, (address, 0))
                async with asyncio.timeout(timeout):
                    return await future - began
            except TimeoutError:
                continue
            except BlockingIOError:
                await asyncio.sleep(0.01)
            except OSError as error:
                raise Fault(FaultKind.UNREACHABLE, f"cannot be reached from here ({error.strerror})") from error
            finally:
                self._waiting.pop(token, None)
        times = f"{tries} tries" if tries > 1 else "one try"
        raise Fault(FaultKind.NO_ANSWER, f"no echo in {times}")

    def _outlet(self, family: socket.AddressFamily) -> _Outlet:
        outlet = self._outlets.get(family)
        if outlet is None:
            try:
                opened, is_raw = open_socket(family)
            except OSError as error:
                words = "this machine does not let Lumtar send ICMP (see net.ipv4.ping_group_range)"
                raise Fault(FaultKind.REFUSED, words) from error
            opened.setblocking(False)
            opened.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER)
            outlet = _Outlet(opened, is_raw, int.from_bytes(os.urandom(2), "big"))
            self._outlets[family] = outlet
            self._loop.add_reader(opened, self._readable, family, outlet)
        return outlet

    def _readable(self, family: socket.AddressFamily, outlet: _Outlet) -> None:
        for _ in range(512):
            try:
                data, sender = outlet.socket.recvfrom(2048)
            except OSError:
                return
            # A raw socket of version 4 gives the datagram with its own header.
            at = (data[0] & 0x0F) * 4 if outlet.is_raw and family == socket.AF_INET and data else 0
            if len(data) < at + HEADER.size or data[at] != ECHO_REPLY[family]:
                continue
            waiting = self._waiting.get(data[at + HEADER.size :])
            if waiting is None or waiting[0].done() or waiting[1] != sender[0]:
                continue
            waiting[0].set_result(time.monotonic())
