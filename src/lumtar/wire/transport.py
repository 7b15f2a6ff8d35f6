"""SNMP over UDP: one shared socket an address family, however many devices (RFC 3417).

An answer must come from the address that was asked and carry the number of a request that
waits; everything else is counted, and remembered as the reason should that request fail.
"""

import asyncio
import errno
import os
import socket
import struct
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

from lumtar.wire import pdu
from lumtar.wire.ber import Malformed
from lumtar.wire.faults import Fault, FaultKind

Address = tuple[str, int]
IP_RECVERR, IPV6_RECVERR = 11, 25
MSG_ERRQUEUE = 0x2000
BUFFER = 4 << 20
DRAIN = 512
"""Datagrams read before the event loop gets its turn again."""


@dataclass(slots=True)
class Waiting:
    """A request that waits for its answer."""

    future: asyncio.Future[bytes]
    address: Address
    oddity: str = ""


def resolve(host: str, port: int) -> tuple[socket.AddressFamily, Address]:
    """The address of a name or of an address in text. Blocks while a name is looked up.

    Raises
    ------
    Fault
        UNKNOWN_NAME
    """
    try:
        addresses = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)
    except (OSError, UnicodeError) as error:
        raise Fault(FaultKind.UNKNOWN_NAME, f"the name {host!r} is not known here") from error
    family, _, _, _, address = addresses[0]
    return family, (str(address[0]), int(address[1]))


class Transport:
    """The sockets, and who waits for what. Use it from one event loop only, and close it."""

    def __init__(self) -> None:
        self.counts: Counter[str] = Counter()
        self.held = 0
        """Octets that sessions received for what they are still at."""
        self._loop = asyncio.get_running_loop()
        self._sockets: dict[socket.AddressFamily, socket.socket] = {}
        self._waiting: dict[int, Waiting] = {}
        self._by_address: dict[Address, int] = {}
        self._last_id = int.from_bytes(os.urandom(4), "big") & 0x3FFFFFFF

    def _socket(self, family: socket.AddressFamily) -> socket.socket:
        sock = self._sockets.get(family)
        if sock is None:
            sock = socket.socket(family, socket.SOCK_DGRAM)
            sock.setblocking(False)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER)
            # Without this a closed port cannot be told from a silent device.
            if family == socket.AF_INET6:
                sock.setsockopt(socket.IPPROTO_IPV6, IPV6_RECVERR, 1)
            else:
                sock.setsockopt(socket.IPPROTO_IP, IP_RECVERR, 1)
            self._sockets[family] = sock
            self._loop.add_reader(sock, self._readable, sock)
        return sock

    def close(self) -> None:
        """Close the sockets and fail whatever still waits."""
        for each in self._sockets.values():
            self._loop.remove_reader(each)
            each.close()
        self._sockets.clear()
        for waiting in self._waiting.values():
            waiting.future.cancel()
        self._waiting.clear()

    def next_id(self) -> int:
        """A request number that nobody waits for."""
        while True:
            self._last_id = (self._last_id + 1) & 0x7FFFFFFF
            if self._last_id and self._last_id not in self._waiting:
                return self._last_id

    async def ask(
        self,
        family: socket.AddressFamily,
        address: Address,
        number: int,
        message: bytes | Callable[[], bytes],
        timeout: float,
        tries: int,
    ) -> bytes:
        """Send a message until an answer with its number comes.

        Parameters
        ----------
        number : request id or msgID within the message
        message : the octets, or what makes them anew for each try
        timeout : seconds to wait after each try
        tries : how often to send

        Raises
        ------
        Fault
            NO_ANSWER, GARBLED, PORT_CLOSED or UNREACHABLE
        """
        outlet = self._socket(family)
        future: asyncio.Future[bytes] = self._loop.create_future()
        waiting = Waiting(future, address)
        self._waiting[number] = waiting
        self._by_address[address] = number
        try:
            for attempt in range(tries):
                if attempt:
                    self.counts["retries"] += 1
                self._send(outlet, message if isinstance(message, bytes) else message(), address)
                timer = self._loop.call_later(timeout, _expire, future)
                try:
                    return await future
                except TimeoutError:
                    future = self._loop.create_future()
                    waiting.future = future
                finally:
                    timer.cancel()
        finally:
            self._waiting.pop(number, None)
            if self._by_address.get(address) == number:
                del self._by_address[address]
        times = f"{tries} tries" if tries > 1 else "one try"
        if waiting.oddity:
            raise Fault(
                FaultKind.GARBLED, f"what came back from UDP {address[1]} in {times} is no answer: {waiting.oddity}"
            )
        raise Fault(FaultKind.NO_ANSWER, f"no answer on UDP {address[1]} in {times}")

    def _send(self, outlet: socket.socket, message: bytes, address: Address) -> None:
        for _ in range(3):
            try:
                outlet.sendto(message, address)
                return
            except BlockingIOError:
                # As good as lost on the way: the next try sends it again.
                self.counts["send buffer full"] += 1
                return
            except OSError as error:
                # With the error queue on, sending can report an earlier datagram's fate.
                if not self._drain_errors(outlet):
                    words = f"cannot be reached from here ({error.strerror})"
                    raise Fault(FaultKind.UNREACHABLE, words) from error

    def _readable(self, inlet: socket.socket) -> None:
        for _ in range(DRAIN):
            try:
                data, sender = inlet.recvfrom(65535)
            except BlockingIOError:
                self._drain_errors(inlet)
                return
            except OSError:
                self._drain_errors(inlet)
                continue
            self._arrived(data, sender[:2])

    def _arrived(self, data: bytes, sender: Address) -> None:
        try:
            number = pdu.message_id(data)
        except Malformed as malformed:
            self._odd(sender, "garbled", str(malformed))
            return
        waiting = self._waiting.get(number)
        if waiting is None:
            self._odd(sender, "late or unasked", "it carries the number of another request")
        elif waiting.address != sender:
            self.counts["from another address"] += 1
            waiting.oddity = f"it came from {sender[0]} port {sender[1]}, which was not asked"
        elif not waiting.future.done():
            waiting.future.set_result(data)
        else:
            self.counts["twice"] += 1

    def reject(self, address: Address, words: str) -> None:
        """Count an answer that turned out to be unreadable after it had been delivered."""
        self._odd(address, "garbled", words)

    def _odd(self, sender: Address, kind: str, words: str) -> None:
        self.counts[kind] += 1
        number = self._by_address.get(sender)
        if number is not None:
            self._waiting[number].oddity = words

    def _drain_errors(self, outlet: socket.socket) -> bool:
        """Read what ICMP said of datagrams sent; whether there was anything."""
        drained = False
        while True:
            try:
                data, ancillary, _, _ = outlet.recvmsg(65535, 512, MSG_ERRQUEUE)
            except OSError:
                return drained
            drained = True
            code = next((struct.unpack_from("=I", body)[0] for level, kind, body in ancillary if len(body) >= 16), 0)
            try:
                waiting = self._waiting.get(pdu.message_id(data))
            except Malformed:
                continue
            if waiting is None or waiting.future.done():
                continue
            if code == errno.ECONNREFUSED:
                words = f"UDP port {waiting.address[1]} is closed: the host answers, but nothing listens there"
                waiting.future.set_exception(Fault(FaultKind.PORT_CLOSED, words))
            elif code in (errno.EHOSTUNREACH, errno.ENETUNREACH):
                words = "a router on the way says that it cannot be reached"
                waiting.future.set_exception(Fault(FaultKind.UNREACHABLE, words))


def _expire(future: asyncio.Future[bytes]) -> None:
    if not future.done():
        future.set_exception(TimeoutError())
