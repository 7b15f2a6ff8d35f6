"""Options of sockets that IPv4 and IPv6 each have under a name of their own (Linux, ip(7) and ipv6(7)), by address family."""

import socket
import struct

from lumtar.wire.transport import IP_RECVERR, IPV6_RECVERR

Option = tuple[int, int]
"""Level and name."""
TRAFFIC_CLASS: dict[int, Option] = {
    socket.AF_INET: (socket.IPPROTO_IP, socket.IP_TOS),
    socket.AF_INET6: (socket.IPPROTO_IPV6, socket.IPV6_TCLASS),
}
"""DSCP times four."""
TIME_TO_LIVE: dict[int, Option] = {
    socket.AF_INET: (socket.IPPROTO_IP, socket.IP_TTL),
    socket.AF_INET6: (socket.IPPROTO_IPV6, socket.IPV6_UNICAST_HOPS),
}
RECEIVE_ERRORS: dict[int, Option] = {
    socket.AF_INET: (socket.IPPROTO_IP, IP_RECVERR),
    socket.AF_INET6: (socket.IPPROTO_IPV6, IPV6_RECVERR),
}
EXTENDED_ERROR = struct.Struct("IBBBBII")
"""sock_extended_err (linux/errqueue.h): errno, origin, type, code, info and data; the sockaddr of whoever sent the error follows."""


def family_of(address: str) -> socket.AddressFamily:
    """The family of an address."""
    return socket.AF_INET6 if ":" in address else socket.AF_INET
