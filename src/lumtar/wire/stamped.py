"""A UDP socket of which the kernel says when each datagram left and when each one arrived: a busy process spoils no time.

Times are nanoseconds of the epoch by the system's clock.
"""

import socket
import struct
import time
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass

from lumtar.wire.ip_options import EXTENDED_ERROR, RECEIVE_ERRORS, TRAFFIC_CLASS, family_of

Address = tuple[str, int]
TIMESTAMPING = 37
"""SO_TIMESTAMPING, and SCM_TIMESTAMPING (Linux, Documentation/networking/timestamping.rst)."""
FLAGS = 2 | 8 | 16 | 128 | 2048
"""When it left and when it arrived, by software, with a number for each that left, and without its octets."""
RECEIVE_BUFFER_FORCE, RECEIVE_BUFFER = 33, 16 << 20
SPEC = struct.Struct("qq")
V4_TTL, V6_HOPS = (socket.IPPROTO_IP, socket.IP_TTL), (socket.IPPROTO_IPV6, 52)
V6_RECEIVE_HOPS = 51
ANCILLARY, LONGEST = 256, 9100


@dataclass(frozen=True, slots=True)
class Arrived:
    """A datagram: its octets, who sent it, when it arrived, and what was left of its time to live (0: not told)."""

    data: bytes
    sender: Address
    at_ns: int
    ttl: int


class StampedSocket:
    """One socket of a family; it does not block."""

    def __init__(self, host: str, port: int = 0) -> None:
        self.family = family_of(host)
        self._socket = self._open()
        try:
            self._socket.setblocking(False)
            with suppress(PermissionError):
                # Beyond what an ordinary process may ask for, if this one has the right.
                self._socket.setsockopt(socket.SOL_SOCKET, RECEIVE_BUFFER_FORCE, RECEIVE_BUFFER)
            self._socket.setsockopt(socket.SOL_SOCKET, TIMESTAMPING, FLAGS)
            if self.family == socket.AF_INET6:
                self._socket.setsockopt(socket.IPPROTO_IPV6, V6_RECEIVE_HOPS, 1)
                self._socket.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_UNICAST_HOPS, 255)
            else:
                self._socket.setsockopt(socket.IPPROTO_IP, 12, 1)
                self._socket.setsockopt(socket.IPPROTO_IP, socket.IP_TTL, 255)
            self._socket.bind((host, port))
        except OSError:
            self._socket.close()
            raise
        self._next = 0

    def _open(self) -> socket.socket:
        opened = socket.socket(self.family, socket.SOCK_DGRAM)
        if self.family == socket.AF_INET6:
            opened.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        return opened

    def fileno(self) -> int:
        """For whoever waits for it."""
        return self._socket.fileno()

    @property
    def port(self) -> int:
        """At which it listens."""
        return int(self._socket.getsockname()[1])

    def send(self, data: bytes, to: Address, traffic_class: int = 0) -> int:
        """Send a datagram. Returns its number, by which :meth:`departures` tells when it left.

        Raises
        ------
        OSError
        """
        self._socket.sendmsg([data], [(*TRAFFIC_CLASS[self.family], struct.pack("i", traffic_class))], 0, to)
        self._next += 1
        return self._next - 1

    def departures(self) -> Iterator[tuple[int, int]]:
        """Numbers of datagrams that have left, and when."""
        while True:
            try:
                _, ancillary, _, _ = self._socket.recvmsg(0, ANCILLARY, socket.MSG_ERRQUEUE)
            except OSError:
                return
            number = at = None
            for level, kind, data in ancillary:
                if (level, kind) == (socket.SOL_SOCKET, TIMESTAMPING):
                    at = _nanoseconds(data)
                elif (level, kind) in RECEIVE_ERRORS.values():
                    number = EXTENDED_ERROR.unpack_from(data)[6]
            if number is not None and at is not None:
                yield number, at

    def arrivals(self, most: int = 1000) -> Iterator[Arrived]:
        """Datagrams that have arrived, at most so many at once."""
        for _ in range(most):
            try:
                data, ancillary, _, sender = self._socket.recvmsg(LONGEST, ANCILLARY)
            except BlockingIOError:
                return
            except OSError:
                # A refusal of something that was sent before; it is no datagram.
                continue
            at = ttl = 0
            for level, kind, value in ancillary:
                if (level, kind) == (socket.SOL_SOCKET, TIMESTAMPING):
                    at = _nanoseconds(value)
                elif (level, kind) in (V4_TTL, V6_HOPS):
                    ttl = int.from_bytes(value[:4], "little")
            # The kernel begins to stamp what arrives a moment after it was asked to.
            yield Arrived(data, (sender[0], sender[1]), at or time.time_ns(), ttl)

    def close(self) -> None:
        """End it."""
        self._socket.close()


def _nanoseconds(data: bytes) -> int:
    seconds, rest = SPEC.unpack_from(data)
    return int(seconds) * 1_000_000_000 + int(rest)
