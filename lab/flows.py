"""Flows of the stand-in network: who sits behind which port exchanges what with whom, to the octet as the ports of routers count it."""

import socket
import zlib
from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lab.answering import microseconds
from lab.bridging import BRIDGES, PUBLIC, Host, host_at
from lab.device import Device
from lab.flow_encoding import Encoder
from lab.incidents import ODD, SCAN, STRANGER
from lab.routing import site_number
from lab.scenario import ETHERNET, Box, Port, Scenario
from lab.sflow_encoding import SflowEncoder
from lab.traffic import CLASSES, ahead_s
from lumtar.core.flows.records import INGRESS, Records, address_numbers, empty

EXPORT_S = 20.0
"""Routers tell of a flow at least so often (active timeout)."""
TCP, UDP, EXPEDITED = 6, 17, 46 << 2
OUTSIDE = ("wan1", "wan2", "cell1", "outside")
"""Ports whose octets are told of in full."""
PROTOCOLS = {
    "hex-wan-1": "ipfix", "cen-wan-1": "ipfix", "cen-fw-1": "ipfix", "sal-wan-1": "netflow5", "dun-wan-1": "sflow", "gar-wan-1": "ipfix over tcp",
}  # fmt: skip
"""By which protocol a box exports; others by NetFlow 9."""
LISTED = {"ipfix over tcp": "ipfix"}
"""What Lumtar calls a protocol, if it is not what it is called here."""


def tells_more(name: str) -> bool:
    """Whether a box tells of response times and of names of servers."""
    protocol = PROTOCOLS.get(name, "netflow9")
    return LISTED.get(protocol, protocol) == "ipfix"


INTERNET, CENTRAL, DEPOT = "internet", "central", "depot"
MIX: Mapping[str, tuple[tuple[float, str, int, int, int], ...]] = {
    "readers": (
        (0.66, INTERNET, TCP, 443, 0), (0.22, INTERNET, UDP, 443, 0), (0.02, CENTRAL, UDP, 53, 0), (0.06, CENTRAL, TCP, 8080, 0),
        (0.04, INTERNET, UDP, 27015, 0),
    ),
    "staff": (
        (0.4, INTERNET, TCP, 443, 0), (0.27, CENTRAL, TCP, 445, 0), (0.12, CENTRAL, TCP, 993, 0), (0.07, CENTRAL, TCP, 389, 0),
        (0.06, CENTRAL, UDP, 16400, EXPEDITED), (0.08, DEPOT, TCP, 5432, 0),
    ),
    "wireless": ((0.7, INTERNET, TCP, 443, 0), (0.24, INTERNET, UDP, 443, 0), (0.06, INTERNET, UDP, 51820, 0)),
    "steady": ((0.8, CENTRAL, UDP, 161, 0), (0.2, CENTRAL, UDP, 123, 0)),
    "copy": ((1.0, DEPOT, TCP, 873, 0),),
    "backup": ((1.0, DEPOT, TCP, 873, 0),),
    "index": ((1.0, DEPOT, TCP, 5432, 0),),
    "silent": (),
}  # fmt: skip
"""What each class of sources does: share, with whom, protocol, port, TOS."""
SERVERS = {INTERNET: 40, CENTRAL: 4, DEPOT: 3}
"""How many servers there are of each kind."""


def server(kind: str, number: int, is_v6: bool) -> tuple[int, int]:
    """The address of a server."""
    if kind == INTERNET:
        return address_numbers(f"2001:db8:f00d::{number + 1:x}" if is_v6 else f"198.51.100.{number + 1}")
    site = 0 if kind == CENTRAL else 1
    return address_numbers(f"2001:db8:{site:x}:14::{number + 200:x}" if is_v6 else f"10.{site}.10.{number + 200}")


@dataclass(frozen=True)
class Outlines:
    """The conversations at a port, one row each: their source, its weight and share, whether towards the client, and a record to fill in."""

    source: NDArray[np.int64]
    weight: NDArray[np.float64]
    is_down: NDArray[np.bool_]
    way: NDArray[np.int64]
    """0 comes in at the port, 1 leaves."""
    records: Records
    odd: NDArray[np.str_]
    """Whether it is a stranger's or of a scan; empty of everybody else."""

    def octets(self, gone: NDArray[np.float64], seconds: float, kinds: Collection[str]) -> NDArray[np.float64]:
        """What was exchanged: of the sources what they sent and got (m, 2), of odd ones of some kinds at a steady rate."""
        told = gone[np.maximum(self.source, 0), np.where(self.is_down, 0, 1)] * self.weight
        steady = np.where(np.isin(self.odd, list(kinds)), self.weight * seconds / 8, 0.0)
        return np.where(self.source >= 0, told, steady)


def copied(octets: float, told: float) -> float:
    """What of a port's octets is a copy that somebody runs in working hours: more than the sources explain."""
    return octets - told if octets > 1.3 * told + 100_000 else 0.0


class Exporting:
    """All exporters of a network."""

    def __init__(self, scenario: Scenario, devices: Mapping[str, Device], epoch: float, port: int) -> None:
        self._devices, self._receiver, self._epoch = devices, ("127.0.0.1", port), epoch
        self.sources, self.ahead = scenario.sources, ahead_s(epoch)
        self._hosts = _hosts(scenario)
        self.outlines: dict[tuple[str, int], Outlines] = {}
        self._counted: dict[str, tuple[float, float, NDArray[np.float64]]] = {}
        self.encoders: dict[str, Encoder | SflowEncoder] = {}
        self._lines: dict[str, socket.socket] = {}
        for box in scenario.boxes:
            ports = [each for each in box.ports if each.name in OUTSIDE and each.terms]
            if ports and not box.is_new:
                self.encoders[box.name] = self._encoder(box)
                for each in ports:
                    self.outlines[box.name, each.index] = self._outline(box, each)

    @staticmethod
    def _encoder(box: Box) -> Encoder | SflowEncoder:
        protocol = PROTOCOLS.get(box.name, "netflow9")
        return SflowEncoder(box.address) if protocol == "sflow" else Encoder(LISTED.get(protocol, protocol))

    def _outline(self, box: Box, port: Port) -> Outlines:
        inner = next((each.index for each in box.ports if each.name in ("lan1", "inside", "wlan1")), 0)
        rows = []
        for source, weight, towards in port.terms:
            clients, site = self._hosts.get(source, (None, box.site))
            kind = CLASSES[self.sources.classes[source]]
            for share, whom, protocol, number, tos in MIX[kind]:
                rows.append((source, weight * share, towards, clients, site, whom, protocol, number, tos))
        odd = _odd(box) if port.name == "wan1" else []
        made = empty(2 * (len(rows) + len(odd)))
        whose = np.full(len(made), -1, "i8")
        weights, is_down, ways = np.zeros(len(made)), np.zeros(len(made), bool), np.zeros(len(made), "i8")
        kinds = np.full(len(made), "", "U10")
        whole = [
            (who, weight, towards, _ends(who, host, site, whom, service), service, protocol, tos, "")
            for who, weight, towards, host, site, whom, protocol, service, tos in rows
        ] + odd
        for place, (who, weight, towards, (client, beyond), service, protocol, tos, kind) in enumerate(whole):
            for down in (True, False):
                at = 2 * place + (not down)
                whose[at], weights[at], is_down[at], kinds[at] = who, weight, down, kind
                # What goes towards the client leaves by a port that is towards it, and comes in by one that is not.
                ways[at] = int(down == towards)
                fill = {"src": beyond, "dst": client} if down else {"src": client, "dst": beyond}
                for end, (hi, lo) in fill.items():
                    made[f"{end}_hi"][at], made[f"{end}_lo"][at] = hi, lo
                ports = (service, 49152 + who % 16000) if down else (49152 + who % 16000, service)
                made["src_port"][at], made["dst_port"][at] = ports
                made["protocol"][at], made["tos"][at] = protocol, tos
                made["input"][at], made["output"][at] = (inner, port.index) if ways[at] else (port.index, inner)
        made["direction"] = INGRESS
        return Outlines(whose, weights, is_down, ways, made, kinds)

    def export(self, now: float) -> None:
        """Send what was exchanged since the last time."""
        for name, encoder in self.encoders.items():
            device = self._devices[name]
            manners = device.manners
            if isinstance(encoder, Encoder):
                encoder.sends_templates = not manners.flow_no_templates
            records, times = self._since(device, now)
            if not len(records) or device.silent:
                continue
            if manners.flow_sampling:
                records["octets"] //= np.uint64(manners.flow_sampling)
            records["start"] += manners.flow_skew
            records["end"] += manners.flow_skew
            made = (
                encoder.datagrams(records, now, device.boot(now), times)
                if isinstance(encoder, Encoder)
                else encoder.datagrams(records, now, device.boot(now))
            )
            loss = manners.flow_loss
            # Evenly, and not the first one, which has the templates.
            self._send(device, [each for n, each in enumerate(made) if int((n + 1) * loss) == int(n * loss)])

    def _since(self, device: Device, now: float) -> tuple[Records, NDArray[np.float64]]:
        counted = device.counters(now)
        boot = device.boot(now)
        before = self._counted.get(device.box.name)
        self._counted[device.box.name] = now, boot, counted
        if before is not None and before[1] != boot:
            self.encoders[device.box.name] = self._encoder(device.box)
        if before is None or before[1] != boot or now - before[0] > 5 * EXPORT_S:
            return empty(0), np.zeros((0, 2))
        gone = self.sources.octets(now + self.ahead) - self.sources.octets(before[0] + self.ahead)
        parts = []
        for row, port in enumerate(device.box.ports):
            if (device.box.name, port.index) in self.outlines:
                parts += self._of_port(device, port, before[0], now, counted[row, :2] - before[2][row, :2], gone)
        records = [each for each, _ in parts]
        times = [microseconds(each, load, now, self._epoch, device.manners.slow_services) for each, load in parts]
        return (np.concatenate(records), np.concatenate(times)) if parts else (empty(0), np.zeros((0, 2)))

    def _of_port(
        self,
        device: Device,
        port: Port,
        begin: float,
        end: float,
        octets: NDArray[np.float64],
        gone: NDArray[np.float64],
    ) -> list[tuple[Records, float]]:
        """Records of each way, and the load of the port then."""
        outlines = self.outlines[device.box.name, port.index]
        each = outlines.octets(gone, end - begin, self._odd_now(device, end))
        parts = []
        for way in (0, 1):
            mine = outlines.way == way
            wanted, told = int(octets[way]), each[mine]
            if wanted <= 0 or not mine.any() or (way == 1 and device.manners.flow_in_only):
                continue
            records = outlines.records[mine].copy()
            if more := copied(wanted, float(told.sum())):
                records, told = np.concatenate((records, copy_of(device.box, port, way))), np.append(told, more)
            records["octets"] = exactly(told, wanted)
            records = records[records["octets"] > 0]
            records["packets"] = np.maximum(1, records["octets"] // 800)
            records["start"], records["end"] = begin, end
            parts.append((records, load_of(port, way, wanted / (end - begin))))
        return parts

    def _odd_now(self, device: Device, now: float) -> list[str]:
        by_hand = {STRANGER: device.manners.has_stranger, SCAN: device.manners.has_scan}
        return [kind for kind, on in by_hand.items() if on] + odd_at(device.box.name, now - self._epoch)

    def _send(self, device: Device, datagrams: list[bytes]) -> None:
        if PROTOCOLS.get(device.box.name) == "ipfix over tcp":
            self._send_over_tcp(device, datagrams)
            return
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as outlet:
            try:
                outlet.bind((device.box.address, 0))
                for each in datagrams:
                    outlet.sendto(each, self._receiver)
            except OSError:
                # Nobody listens; a router does not mind.
                return

    def _send_over_tcp(self, device: Device, datagrams: list[bytes]) -> None:
        name = device.box.name
        try:
            if name not in self._lines:
                self._lines[name] = socket.create_connection(self._receiver, 2, (device.box.address, 0))
            self._lines[name].sendall(b"".join(datagrams))
        except OSError:
            if line := self._lines.pop(name, None):
                line.close()

    def close(self) -> None:
        """End the connections."""
        for line in self._lines.values():
            line.close()
        self._lines.clear()


def load_of(port: Port, way: int, octets_per_s: float) -> float:
    """The share of its speed that a port is at, 0 to 1."""
    speed = port.sold_bps[way] if port.sold_bps else port.speed_bps
    return 8 * octets_per_s / speed


def odd_at(name: str, since_epoch: float) -> list[str]:
    """Who of the odd ones is behind a box, so many seconds after the demonstration was loaded."""
    return [each.kind for each in ODD if each.device == name and each.start <= since_epoch < each.end]


Outline = tuple[int, float, bool, tuple[tuple[int, int], tuple[int, int]], int, int, int, str]
"""Source, weight, towards the client, the addresses of the client and of whoever is beyond, service, protocol, TOS, kind."""


def _odd(box: Box) -> list[Outline]:
    """A stranger, who sends something somewhere at 400 kb/s, and a scan: one packet for each address of two networks of Central."""
    number = site_number(box.site)
    elsewhere = address_numbers("203.0.113.77")
    found: list[Outline] = [
        (-1, 400_000.0, False, (address_numbers(f"172.31.{number}.66"), elsewhere), 4444, TCP, 0, STRANGER)
    ]
    scanner = address_numbers(f"10.{number}.40.66")
    for network in (10, 20):
        for host in range(1, 255):
            goal = address_numbers(f"10.0.{network}.{host}")
            found.append((-1, 60 * 8 / EXPORT_S, False, (scanner, goal), 22, TCP, 0, SCAN))
    return found


def _ends(who: int, host: Host | None, site: str, whom: str, service: int) -> tuple[tuple[int, int], tuple[int, int]]:
    is_v6 = host is not None and host.vlan == PUBLIC and who % 2 == 1
    return _client(host, site, who, is_v6), server(whom, (who * 7 + service) % SERVERS[whom], is_v6)


def exactly(shares: NDArray[np.float64], wanted: int) -> NDArray[np.uint64]:
    """A whole number of octets in these shares, that add up to it."""
    total = float(shares.sum())
    upto = np.floor(np.cumsum(shares) / total * wanted) if total > 0 else np.linspace(0, wanted, len(shares) + 1)[1:]
    upto[-1] = wanted
    return np.diff(np.concatenate((np.zeros(1), upto))).astype("u8")


def copy_of(box: Box, port: Port, way: int) -> Records:
    """A copy from a server of a site to the depot, over a port one way."""
    made = empty(1)
    here = address_numbers(f"10.{site_number(box.site)}.10.33")
    there = address_numbers("10.1.10.201")
    source, goal = (here, there) if way else (there, here)
    made["src_hi"], made["src_lo"], made["dst_hi"], made["dst_lo"] = *source, *goal
    made["src_port"], made["dst_port"] = (50123, 873) if way else (873, 50123)
    made["protocol"], made["direction"] = TCP, INGRESS
    inner = next((each.index for each in box.ports if each.name in ("lan1", "inside", "wlan1")), 0)
    made["input"], made["output"] = (inner, port.index) if way else (port.index, inner)
    return made


def _hosts(scenario: Scenario) -> dict[int, tuple[Host | None, str]]:
    """Who each source of traffic is, and at which site."""
    return {
        source: (host_at(box, port), box.site)
        for box in scenario.boxes
        if box.family in BRIDGES
        for port in box.ports
        if port.kind == ETHERNET and len(port.terms) == 1 and not port.alias.startswith(("To ", "Uplink", "Backbone"))
        for source, _, _ in port.terms
    }


def _client(host: Host | None, site: str, source: int, is_v6: bool) -> tuple[int, int]:
    if host is None:
        return address_numbers(f"10.{site_number(site)}.20.{100 + zlib.crc32(str(source).encode()) % 100}")
    return address_numbers(next((each for each in host.addresses if (":" in each) == is_v6), host.addresses[0]))
