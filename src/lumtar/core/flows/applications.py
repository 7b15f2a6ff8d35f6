"""Applications: what a conversation is for, by its protocol and the port of its service."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

TCP, UDP = 6, 17
UNKNOWN = 0
"""The number of whatever is none of them."""


@dataclass(frozen=True, slots=True)
class Application:
    """An application. ``protocols`` are IP protocols; of TCP and UDP the ports decide, without any all of the protocol are meant."""

    number: int
    name: str
    protocols: Sequence[int]
    ports: Sequence[int] = ()


BOTH = (TCP, UDP)
STANDARD = (
    Application(1, "web", BOTH, (80, 443, 8080, 8443)),
    Application(2, "DNS", BOTH, (53, 853)),
    Application(3, "mail", (TCP,), (25, 110, 143, 465, 587, 993, 995)),
    Application(4, "file sharing", BOTH, (137, 138, 139, 445, 2049)),
    Application(5, "SSH", (TCP,), (22,)),
    Application(6, "directory", BOTH, (88, 389, 464, 636, 3268, 3269)),
    Application(7, "remote desktop", BOTH, (3389, 5900)),
    Application(8, "voice", (UDP,), (5060, 5061, 3478, 3479, *range(16384, 16484))),
    Application(9, "time", (UDP,), (123,)),
    Application(10, "network management", BOTH, (161, 162, 514, 830)),
    Application(11, "database", (TCP,), (1433, 1521, 3306, 5432)),
    Application(12, "DHCP", (UDP,), (67, 68, 546, 547)),
    Application(13, "printing", (TCP,), (515, 631, 9100)),
    Application(14, "backup", (TCP,), (873, 10000)),
    Application(15, "file transfer", (TCP,), (20, 21, 989, 990)),
    Application(16, "tunnels", (4, 41, 47, 50, 51)),
    Application(17, "IPsec and VPN", (UDP,), (500, 4500, 1194, 51820)),
    Application(18, "ICMP", (1, 58)),
    Application(19, "routing", (2, 88, 89, 103, 112)),
    Application(20, "BGP", (TCP,), (179,)),
)
"""By IANA's registry of service names and port numbers, and what goes by custom beside it."""


class Applications:
    """Definitions, to look many conversations up at once; a later one goes before an earlier one."""

    def __init__(self, definitions: Sequence[Application] = STANDARD) -> None:
        self.names = {UNKNOWN: "unknown"} | {each.number: each.name for each in definitions}
        self._by_protocol = np.zeros(256, "u4")
        self._by_port = np.zeros((2, 65536), "u4")
        for each in definitions:
            for protocol in each.protocols:
                if each.ports and protocol in BOTH:
                    self._by_port[int(protocol == UDP), list(each.ports)] = each.number
                else:
                    self._by_protocol[protocol] = each.number

    @property
    def known_ports(self) -> NDArray[np.bool_]:
        """By protocol (TCP, UDP) and port, whether an application is defined by it."""
        return self._by_port > 0

    def find(self, protocol: NDArray[np.uint8], port: NDArray[np.uint16]) -> NDArray[np.uint32]:
        """The number of each conversation's application; UNKNOWN where there is none."""
        by_port = self._by_port[(protocol == UDP).astype("i8"), port]
        has_ports = (protocol == TCP) | (protocol == UDP)
        return np.where(has_ports, by_port, self._by_protocol[protocol]).astype("u4")
