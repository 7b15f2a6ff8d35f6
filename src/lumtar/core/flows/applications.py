"""Applications: what a conversation is for, by its protocol and the port of its service, by who is there, by what the exporter says, or by the name that a client asks for."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lumtar.core.flows.addresses import AddressSet, keys_of
from lumtar.core.flows.records import Records
from lumtar.core.flows.server_names import ServerNames, covers
from lumtar.core.refusal import Refusal

TCP, UDP = 6, 17
UNKNOWN = 0
"""The number of whatever is none of them."""


@dataclass(frozen=True, slots=True)
class Application:
    """An application.

    Attributes
    ----------
    protocols : IP protocols; without any TCP and UDP
    ports : of the service, of TCP and UDP; without any all of the protocol are meant
    addresses : one end of a conversation has to be among them; without any it does not matter who it is
    told : what exporters call it (applicationId, RFC 6759); without any it does not matter what they say
    server_names : the server that a client asked for is one of these or lies beneath one; without any it does not matter
    """

    number: int
    name: str
    protocols: Sequence[int]
    ports: Sequence[int] = ()
    addresses: AddressSet = field(default_factory=AddressSet)
    told: Sequence[int] = ()
    server_names: Sequence[str] = ()

    @property
    def is_special(self) -> bool:
        """Whether more than protocol and port decide."""
        return bool(len(self.addresses.firsts) or self.told or self.server_names)


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
    """Definitions, to look many conversations up at once; a later one goes before an earlier one, and one that asks who is there before all others."""

    def __init__(self, definitions: Sequence[Application] = STANDARD) -> None:
        self.names = {UNKNOWN: "unknown"} | {each.number: each.name for each in definitions}
        self._special = [each for each in definitions if each.is_special]
        self._by_protocol = np.zeros(256, "u4")
        self._by_port = np.zeros((2, 65536), "u4")
        self._known = np.zeros((2, 65536), bool)
        for each in definitions:
            for protocol in each.protocols or BOTH:
                if each.ports and protocol in BOTH:
                    self._known[int(protocol == UDP), list(each.ports)] = True
                if not each.is_special:
                    self._put(each, protocol)

    def _put(self, each: Application, protocol: int) -> None:
        if protocol not in BOTH or not each.ports:
            self._by_protocol[protocol] = each.number
        else:
            self._by_port[int(protocol == UDP), list(each.ports)] = each.number

    @property
    def known_ports(self) -> NDArray[np.bool_]:
        """By protocol (TCP, UDP) and port, whether an application is defined by it."""
        return self._known

    def find(self, records: Records, ports: NDArray[np.uint16], names: ServerNames | None = None) -> NDArray[np.uint32]:
        """The number of each record's application; UNKNOWN where there is none.

        Parameters
        ----------
        ports : of the service
        names : what the numbers of server names mean; without them records have none
        """
        protocol = records["protocol"]
        by_port = self._by_port[(protocol == UDP).astype("i8"), ports]
        has_ports = (protocol == TCP) | (protocol == UDP)
        found: NDArray[np.uint32] = np.where(has_ports & (by_port > 0), by_port, self._by_protocol[protocol]).astype(
            "u4"
        )
        for each in self._special:
            mine = np.flatnonzero(_is_meant(each, protocol, ports, records["application"]))
            if each.server_names:
                mine = mine[_asks_for(each.server_names, records["server_name"][mine], names)] if names else mine[:0]
            if len(each.addresses.firsts) and len(mine):
                ends = [keys_of(records[f"{end}_hi"][mine], records[f"{end}_lo"][mine]) for end in ("src", "dst")]
                mine = mine[each.addresses.contains(ends[0]) | each.addresses.contains(ends[1])]
            found[mine] = each.number
        return found


def _is_meant(
    each: Application, protocol: NDArray[np.uint8], ports: NDArray[np.uint16], told: NDArray[np.uint32]
) -> NDArray[np.bool_]:
    meant = np.isin(protocol, each.protocols) if each.protocols else np.ones(len(protocol), bool)
    if each.ports:
        wanted = np.zeros(65536, bool)
        wanted[list(each.ports)] = True
        meant &= wanted[ports] & np.isin(protocol, BOTH)
    if each.told:
        meant &= np.isin(told, each.told)
    return np.asarray(meant)


def _asks_for(wanted: Sequence[str], numbers: NDArray[np.uint32], names: ServerNames) -> NDArray[np.bool_]:
    different, which = np.unique(numbers, return_inverse=True)
    return np.array([covers(wanted, names[each]) for each in different.tolist()], bool)[which]


def ports_of(text: str) -> tuple[int, ...]:
    """Ports from a text such as 443, 8000-8010.

    Raises
    ------
    Refusal
    """
    found: set[int] = set()
    for part in text.replace(",", " ").split():
        first, dash, last = part.partition("-")
        if not first.isdecimal() or (dash and not last.isdecimal()):
            raise Refusal(f"“{part[:40]}” is not a port: write 443 or 8000-8010.", "ports")
        low, high = int(first), int(last or first)
        if not 0 < low <= high < 65536:
            raise Refusal(f"Ports go from 1 to 65535, and ranges upwards: “{part[:40]}” does not.", "ports")
        found.update(range(low, high + 1))
    return tuple(sorted(found))
