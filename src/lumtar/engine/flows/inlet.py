"""Receiving datagrams in a thread of its own, as fast as they come; whoever reads them takes all that have come."""

import socket
import threading
from collections import deque
from collections.abc import Sequence

import structlog

log = structlog.get_logger()
BUFFER = 16 << 20
"""Octets that the system is asked to hold; it may give less, which is said."""
LONGEST = 65_535
MOST_WAITING = 200_000
"""Datagrams that wait to be read; more of them are dropped and counted."""
LOOK_S = 0.5
Datagram = tuple[bytes, str]
"""Octets, and the sender's address."""


class Inlet:
    """Listens at one host on several ports."""

    def __init__(self, host: str, ports: Sequence[int]) -> None:
        self.received = self.dropped = 0
        self.buffer = 0
        self._waiting: deque[Datagram] = deque()
        self._ending = threading.Event()
        self._threads: list[threading.Thread] = []
        self._sockets = [self._open(host, port) for port in ports]

    def _open(self, host: str, port: int) -> socket.socket:
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        made = socket.socket(family, socket.SOCK_DGRAM)
        try:
            made.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER)
            if family == socket.AF_INET6:
                made.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
            made.settimeout(LOOK_S)
            made.bind((host, port))
        except OSError:
            made.close()
            raise
        self.buffer = made.getsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF)
        return made

    def start(self) -> None:
        """Begin to listen."""
        for each in self._sockets:
            thread = threading.Thread(target=self._listen, args=(each,), name="inlet", daemon=True)
            thread.start()
            self._threads.append(thread)

    def close(self) -> None:
        """Listen no longer."""
        self._ending.set()
        for thread in self._threads:
            thread.join(2 * LOOK_S)
        for each in self._sockets:
            each.close()

    def take(self) -> list[Datagram]:
        """Everything that has come since the last time."""
        waiting = self._waiting
        return [waiting.popleft() for _ in range(len(waiting))]

    def _listen(self, inlet: socket.socket) -> None:
        waiting, receive = self._waiting, inlet.recvfrom
        while not self._ending.is_set():
            try:
                data, sender = receive(LONGEST)
            except TimeoutError:
                continue
            except OSError as error:
                if not self._ending.is_set():
                    log.warning("receiving flows failed", error=str(error))
                continue
            self.received += 1
            if len(waiting) >= MOST_WAITING:
                self.dropped += 1
                continue
            waiting.append((data, sender[0]))
