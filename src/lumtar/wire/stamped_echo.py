"""ICMP echo (RFC 792, RFC 4443) of which the kernel says when each request left and when each reply arrived."""

import os
import socket
from collections.abc import Iterator

from lumtar.wire.icmp import ECHO_REPLY, HEADER, echo_request, open_socket
from lumtar.wire.stamped import Address, Arrived, StampedSocket


class StampedEcho(StampedSocket):
    """Sends echo requests around datagrams, and gives what came back in replies to them."""

    def __init__(self, host: str) -> None:
        self._is_raw = False
        self._identifier = int.from_bytes(os.urandom(2), "big")
        super().__init__(host)

    def _open(self) -> socket.socket:
        opened, self._is_raw = open_socket(self.family)
        return opened

    def send(self, data: bytes, to: Address, traffic_class: int = 0) -> int:
        """Send an echo request with this in it; there are no ports.

        Raises
        ------
        OSError
        """
        request = echo_request(self.family, self._identifier, self._next & 0xFFFF, data)
        return super().send(request, (to[0], 0), traffic_class)

    def arrivals(self, most: int = 1000) -> Iterator[Arrived]:
        """What came back in replies."""
        for each in super().arrivals(most):
            # A raw socket of version 4 gives the datagram with its own header, and any raw one what others are sent.
            at = (each.data[0] & 0x0F) * 4 if self._is_raw and self.family == socket.AF_INET and each.data else 0
            if len(each.data) < at + HEADER.size:
                continue
            kind, _, _, identifier, _ = HEADER.unpack_from(each.data, at)
            if kind == ECHO_REPLY[self.family] and (not self._is_raw or identifier == self._identifier):
                yield Arrived(each.data[at + HEADER.size :], (each.sender[0], 0), each.at_ns, each.ttl)
