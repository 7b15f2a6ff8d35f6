"""Flows of the stand-in network: who sits behind which port exchanges what with whom, to the octet as the ports of routers count it."""

import socket
import zlib
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lab.bridging import BRIDGES, PUBLIC, Host, host_at
from lab.device import Device
from lab.flow_encoding import Encoder
from lab.routing import site_number
from lab.scenario import ETHERNET, Box, Port, Scenario
from lab.traffic import CLASSES, ahead_s
from lumtar.core.flows.records import INGRESS, Records, address_numbers, empty

EXPORT_S = 20.0
"""Routers tell of a flow at least so often (active timeout)."""
TCP, UDP, EXPEDITED = 6, 17, 46 << 2
OUTSIDE = ("wan1", "wan2", "cell1", "outside")
"""Ports whose octets are told of in full."""
PROTOCOLS = {"hex-wan-1": "ipfix", "cen-fw-1": "ipfix", "sal-wan-1": "netflow5"}
"""By which protocol a box exports; others by NetFlow 9."""
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


class Exporting:
    """All exporters of a network."""

    def __init__(self, scenario: Scenario, devices: Mapping[str, Device], epoch: float, port: int) -> None:
        self._devices, self._receiver = devices, ("127.0.0.1", port)
        self._sources, self._ahead = scenario.sources, ahead_s(epoch)
        self._hosts = _hosts(scenario)
        self._outlines: dict[tuple[str, int], Outlines] = {}
        self._counted: dict[str, tuple[float, float, NDArray[np.float64]]] = {}
        self.encoders: dict[str, Encoder] = {}
        for box in scenario.boxes:
            ports = [each for each in box.ports if each.name in OUTSIDE and each.terms]
            if ports and not box.is_new:
                self.encoders[box.name] = Encoder(PROTOCOLS.get(box.name, "netflow9"))
                for each in ports:
                    self._outlines[box.name, each.index] = self._outline(box, each)

    def _outline(self, box: Box, port: Port) -> Outlines:
        inner = next((each.index for each in box.ports if each.name in ("lan1", "inside", "wlan1")), 0)
        rows = []
        for source, weight, towards in port.terms:
            clients, site = self._hosts.get(source, (None, box.site))
            kind = CLASSES[self._sources.classes[source]]
            for share, whom, protocol, number, tos in MIX[kind]:
                rows.append((source, weight * share, towards, clients, site, whom, protocol, number, tos))
        made = empty(2 * len(rows))
        whose = np.zeros(2 * len(rows), "i8")
        weights, is_down, ways = np.zeros(2 * len(rows)), np.zeros(2 * len(rows), bool), np.zeros(2 * len(rows), "i8")
        for place, (who, weight, towards, host, site, whom, protocol, service, tos) in enumerate(rows):
            is_v6 = host is not None and host.vlan == PUBLIC and who % 2 == 1
            client = _client(host, site, who, is_v6)
            beyond = server(whom, (who * 7 + service) % SERVERS[whom], is_v6)
            for down in (True, False):
                at = 2 * place + (not down)
                whose[at], weights[at], is_down[at] = who, weight, down
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
        return Outlines(whose, weights, is_down, ways, made)

    def export(self, now: float) -> None:
        """Send what was exchanged since the last time."""
        for name, encoder in self.encoders.items():
            device = self._devices[name]
            records = self._since(device, now)
            if len(records) and not device.silent:
                self._send(device, encoder.datagrams(records, now, device.boot(now)))

    def _since(self, device: Device, now: float) -> Records:
        counted = device.counters(now)
        boot = device.boot(now)
        before = self._counted.get(device.box.name)
        self._counted[device.box.name] = now, boot, counted
        if before is None or before[1] != boot or now - before[0] > 5 * EXPORT_S:
            return empty(0)
        parts = []
        for row, port in enumerate(device.box.ports):
            if (device.box.name, port.index) in self._outlines:
                parts += self._of_port(device, port, before[0], now, counted[row, :2] - before[2][row, :2])
        return np.concatenate(parts) if parts else empty(0)

    def _of_port(
        self, device: Device, port: Port, begin: float, end: float, octets: NDArray[np.float64]
    ) -> list[Records]:
        outlines = self._outlines[device.box.name, port.index]
        used, place = np.unique(outlines.source, return_inverse=True)
        gone = self._sources.octets(end + self._ahead, used) - self._sources.octets(begin + self._ahead, used)
        each = gone[place, np.where(outlines.is_down, 0, 1)] * outlines.weight
        parts = []
        for way in (0, 1):
            mine = outlines.way == way
            wanted, told = int(octets[way]), each[mine]
            if wanted <= 0 or not mine.any():
                continue
            records = outlines.records[mine].copy()
            total = float(told.sum())
            if wanted > 1.3 * total + 100_000:
                # More than the sources explain: a copy that somebody runs in working hours.
                records = np.concatenate((records, _copy(device.box, port, way)))
                told = np.append(told, wanted - total)
            records["octets"] = _exactly(told, wanted)
            records = records[records["octets"] > 0]
            records["packets"] = np.maximum(1, records["octets"] // 800)
            records["start"], records["end"] = begin, end
            parts.append(records)
        return parts

    def _send(self, device: Device, datagrams: list[bytes]) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as outlet:
            try:
                outlet.bind((device.box.address, 0))
                for each in datagrams:
                    outlet.sendto(each, self._receiver)
            except OSError:
                # Nobody listens; a router does not mind.
                return


def _exactly(shares: NDArray[np.float64], wanted: int) -> NDArray[np.uint64]:
    """A whole number of octets in these shares, that add up to it."""
    total = float(shares.sum())
    upto = np.floor(np.cumsum(shares) / total * wanted) if total > 0 else np.linspace(0, wanted, len(shares) + 1)[1:]
    upto[-1] = wanted
    return np.diff(np.concatenate((np.zeros(1), upto))).astype("u8")


def _copy(box: Box, port: Port, way: int) -> Records:
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
