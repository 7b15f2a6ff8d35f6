"""Receiving datagrams, and messages of IPFIX over TCP, in threads of their own, as fast as they come; whoever reads them takes all that have come."""

import selectors
import socket
import threading
import time
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass

import structlog

log = structlog.get_logger()
BUFFER = 16 << 20
"""Octets that the system is asked to hold; it may give less, which is said."""
LONGEST = 65_535
MOST_WAITING = 200_000
"""Datagrams that wait to be read; more of them are dropped and counted."""
LOOK_S = 0.5
MOST_CONNECTIONS = 500
"""Exporters that are connected by TCP; more are turned away."""
IDLE_S = 1800.0
"""A connection over which nothing comes for so long is closed."""
IPFIX, SMALLEST_MESSAGE = b"\x00\x0a", 16
Datagram = tuple[bytes, str]
"""Octets, and the sender's address."""


@dataclass(slots=True)
class Connection:
    """An exporter that is connected by TCP, and what came of a message that is not whole yet."""

    address: str
    heard_at: float
    begun: bytes = b""


class Inlet:
    """Listens at one host on several ports, for datagrams and for connections."""

    def __init__(self, host: str, ports: Sequence[int]) -> None:
        self.received = self.dropped = 0
        self.buffer = 0
        self._waiting: deque[Datagram] = deque()
        self._ending = threading.Event()
        self._threads: list[threading.Thread] = []
        self._sockets: list[socket.socket] = []
        self._doors: list[socket.socket] = []
        try:
            for port in ports:
                self._sockets.append(self._open(host, port, socket.SOCK_DGRAM))
                self._doors.append(self._open(host, port, socket.SOCK_STREAM))
        except OSError:
            self._close_sockets()
            raise
        self.buffer = min(each.getsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF) for each in self._sockets)

    @staticmethod
    def _open(host: str, port: int, kind: socket.SocketKind) -> socket.socket:
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        made = socket.socket(family, kind)
        try:
            if kind is socket.SOCK_DGRAM:
                made.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER)
            else:
                made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            if family == socket.AF_INET6:
                made.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
            made.settimeout(LOOK_S)
            made.bind((host, port))
            if kind is socket.SOCK_STREAM:
                made.listen(64)
        except OSError:
            made.close()
            raise
        return made

    def start(self) -> None:
        """Begin to listen."""
        for each in self._sockets:
            thread = threading.Thread(target=self._listen, args=(each,), name="inlet", daemon=True)
            self._threads.append(thread)
        self._threads.append(threading.Thread(target=self._serve, name="doors", daemon=True))
        for thread in self._threads:
            thread.start()

    def close(self) -> None:
        """Listen no longer."""
        self._ending.set()
        for thread in self._threads:
            thread.join(2 * LOOK_S)
        self._close_sockets()

    def _close_sockets(self) -> None:
        for each in (*self._sockets, *self._doors):
            each.close()

    def take(self) -> list[Datagram]:
        """Everything that has come since the last time."""
        waiting = self._waiting
        return [waiting.popleft() for _ in range(len(waiting))]

    def _listen(self, inlet: socket.socket) -> None:
        receive = inlet.recvfrom
        while not self._ending.is_set():
            try:
                data, sender = receive(LONGEST)
            except TimeoutError:
                continue
            except OSError as error:
                if not self._ending.is_set():
                    log.warning("receiving flows failed", error=str(error))
                continue
            self._put(data, sender[0])

    def _put(self, data: bytes, address: str) -> None:
        self.received += 1
        if len(self._waiting) >= MOST_WAITING:
            self.dropped += 1
        else:
            # An address of version 4 that came to a socket for both is told as what it is.
            self._waiting.append((data, address.removeprefix("::ffff:")))

    def _serve(self) -> None:
        """Take connections, and the messages that come over them (RFC 7011 section 10.4)."""
        open_ones: dict[socket.socket, Connection] = {}
        with selectors.DefaultSelector() as selector:
            for door in self._doors:
                selector.register(door, selectors.EVENT_READ, None)
            while not self._ending.is_set():
                for key, _ in selector.select(LOOK_S):
                    known: Connection | None = key.data
                    line = key.fileobj
                    assert isinstance(line, socket.socket)
                    if known is None:
                        self._welcome(line, selector, open_ones)
                    elif not self._hear(line, known):
                        self._part(line, selector, open_ones)
                for line, known in list(open_ones.items()):
                    if time.monotonic() - known.heard_at > IDLE_S:
                        self._part(line, selector, open_ones)
            for line in list(open_ones):
                self._part(line, selector, open_ones)

    @staticmethod
    def _welcome(
        door: socket.socket, selector: selectors.BaseSelector, open_ones: dict[socket.socket, Connection]
    ) -> None:
        try:
            line, sender = door.accept()
        except OSError as error:
            log.warning("an exporter could not connect", error=str(error))
            return
        if len(open_ones) >= MOST_CONNECTIONS:
            line.close()
            return
        line.setblocking(False)
        open_ones[line] = Connection(sender[0], time.monotonic())
        selector.register(line, selectors.EVENT_READ, open_ones[line])

    @staticmethod
    def _part(
        line: socket.socket, selector: selectors.BaseSelector, open_ones: dict[socket.socket, Connection]
    ) -> None:
        selector.unregister(line)
        del open_ones[line]
        line.close()

    def _hear(self, line: socket.socket, known: Connection) -> bool:
        """Take whole messages over; false if nothing more can come of the connection."""
        try:
            came = line.recv(1 << 18)
        except BlockingIOError:
            return True
        except OSError:
            return False
        known.heard_at = time.monotonic()
        data, at = known.begun + came, 0
        while len(data) - at >= SMALLEST_MESSAGE:
            length = int.from_bytes(data[at + 2 : at + 4], "big")
            if data[at : at + 2] != IPFIX or length < SMALLEST_MESSAGE:
                # Where the next message begins cannot be told any more; what came is counted as not understood.
                self._put(data[at : at + SMALLEST_MESSAGE], known.address)
                return False
            if len(data) - at < length:
                break
            self._put(data[at : at + length], known.address)
            at += length
        known.begun = data[at:]
        return bool(came)
