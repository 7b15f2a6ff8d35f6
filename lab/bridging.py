"""Bridges of stand-ins: who is plugged in where, and what every bridge, gateway and aggregate therefore tells (BRIDGE-MIB,
Q-BRIDGE-MIB, IEEE8023-LAG-MIB, IP-MIB).
"""

import ipaddress
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from lab import routing
from lab.device import Device, chassis
from lab.mib import Column, Values, scalar, table, text
from lab.routing import site_number
from lab.scenario import ETHERNET, Box, Port, Scenario
from lab.switching import Edge, Tree, hears, span
from lumtar.wire import ber
from lumtar.wire.ber import oid_body

BRIDGES = ("acc", "core")
STAFF, PUBLIC, EQUIPMENT, WIRELESS, MANAGEMENT = VLANS = (10, 20, 30, 40, 99)
NAMES = dict(zip(VLANS, ("Staff", "Public", "Equipment", "Wireless", "Management"), strict=True))
VLAN_OF = {"Reading room": PUBLIC, "Self-service": EQUIPMENT, "Printers": EQUIPMENT, "Door counter": EQUIPMENT}
"""Of access ports by the beginning of their label; access points are in the wireless VLAN, everybody else is staff."""
LEADS_ON = ("To ", "Uplink to ", "Backbone to ", "Aggregate to ")
PRIORITY = {"core": 8192, "acc": 32768}
BRIDGE, STP, Q_BRIDGE = "1.3.6.1.2.1.17", "1.3.6.1.2.1.17.2", "1.3.6.1.2.1.17.7.1"
LOOP_CHANGES = 2.0
"""Topology changes a second while there is a loop."""
LOOP_TURN = 30.0
"""Seconds after which stations seem to be elsewhere, while there is a loop."""
End = tuple[Box, Port]


@dataclass(frozen=True, slots=True)
class Host:
    """Somebody at a port of a bridge: a MAC address as a number, its VLAN, its addresses."""

    mac: int
    vlan: int
    addresses: tuple[str, ...] = ()


def vlan_of(port: Port, site: str) -> int:
    """The VLAN of an access port."""
    if port.alias.startswith(f"{site[:3].lower()}-ap-"):
        return WIRELESS
    return next((vlan for word, vlan in VLAN_OF.items() if port.alias.startswith(word)), STAFF)


def host_at(box: Box, port: Port) -> Host:
    """Who sits at an access port: the same in every run."""
    site, vlan = site_number(box.site), vlan_of(port, box.site)
    mac = int.from_bytes(bytes((2, 1, *(box.seed & 0xFFFFFF).to_bytes(3, "big"), port.index & 255)), "big")
    number = 240 + port.index % 10 if box.family == "core" else 10 + (int(box.name[-1]) - 1) % 4 * 60 + port.index % 60
    addresses = [f"10.{site}.{vlan}.{number}"]
    if vlan == PUBLIC:
        addresses.append(str(ipaddress.IPv6Address(f"2001:db8:{site:x}:{vlan:x}::{number:x}")))
    return Host(mac, vlan, tuple(addresses))


def _number(octets: bytes) -> int:
    return int.from_bytes(octets, "big")


class Switching:
    """What the bridges of a network tell, from the cables that are plugged in."""

    def __init__(self, scenario: Scenario, devices: Mapping[str, Device]) -> None:
        self._devices = devices
        order = sorted(
            (box for box in scenario.boxes if box.family in BRIDGES), key=lambda box: (PRIORITY[box.family], box.seed)
        )
        self._bridges = {box.name: place for place, box in enumerate(order)}
        self._boxes = order
        self.moved: dict[tuple[str, int], tuple[str, int]] = {}
        """Who sat at a port of a bridge sits at another one now."""
        self._tree = Tree()
        self._changes: dict[int, int] = {}
        self._tables: dict[int, dict[int, int]] = {}
        self._hosts: dict[int, Host] = {}
        self._at: dict[int, int] = {}
        """Of each host, the bridge that it is plugged in at."""

    def renew(self, ends: Mapping[str, Sequence[tuple[Port, End]]]) -> None:
        """Work out anew what all bridges hear, from the cables at each box."""
        edges, stations = set[Edge](), dict[int, list[tuple[int, int]]]()
        self._hosts, self._at = {}, {}
        for name, here in self._bridges.items():
            device = self._devices[name]
            stations[here] = [self._host(here, Host(_number(chassis(device.box)), MANAGEMENT), 0)]
            for port, (box, other) in ends[name]:
                if not device.is_up(port.index, port.up) or not self._devices[box.name].is_up(other.index, other.up):
                    continue
                mine, theirs = _carrier(device.box, port), _carrier(box, other)
                if box.name in self._bridges:
                    there = self._bridges[box.name]
                    edges.add(min((here, mine, there, theirs), (there, theirs, here, mine)))
                else:
                    stations[here].append(self._host(here, Host(_number(chassis(box)), MANAGEMENT), mine))
        for host, (bridge, index) in self._plugged():
            stations[bridge].append(self._host(bridge, host, index))
        tree = span(self._bridges.values(), sorted(edges))
        for bridge in self._bridges.values():
            if self._tree.root and _shape(tree, tree.root[bridge]) != _shape(self._tree, self._tree.root[bridge]):
                self._changes[bridge] = self._changes.get(bridge, 1) + 1
        self._tree, self._tables = tree, hears(tree, stations)

    def _host(self, bridge: int, host: Host, port: int) -> tuple[int, int]:
        self._hosts[host.mac], self._at[host.mac] = host, bridge
        return host.mac, port

    def _plugged(self) -> Iterable[tuple[Host, tuple[int, int]]]:
        """Everybody at an access port whose link is up, wherever they moved to, and boxes that one port leads to."""
        for name, bridge in self._bridges.items():
            device = self._devices[name]
            for port in device.box.ports:
                if not port.alias or port.kind != ETHERNET:
                    continue
                leads_to = port.alias.removeprefix("To ")
                if port.alias.startswith(LEADS_ON):
                    other = self._devices.get(leads_to)
                    if other is not None and other.box.family in ("fs", "ups") and not other.manners.silent:
                        yield Host(_number(chassis(other.box)), MANAGEMENT), (bridge, port.index)
                    continue
                at, index = self.moved.get((name, port.index), (name, port.index))
                there = self._devices[at]
                if there.is_up(index, next(each.up for each in there.box.ports if each.index == index)):
                    yield host_at(device.box, port), (self._bridges[at], index)

    def columns(self, device: Device, ends: Sequence[tuple[Port, End]]) -> list[Column]:
        """What one device tells beside its own columns."""
        ports = device.box.ports
        mtus = [ber.integer(device.mtu(port.index)) for port in ports]
        told = [
            table("1.3.6.1.2.1.2.2.1", 4, [port.index for port in ports], mtus),
            *_aggregates(device),
            *_stack(device),
        ]
        if device.box.name in self._bridges:
            told += self._bridge(device, self._bridges[device.box.name], ends)
        if device.box.family in ("wan", "fw"):
            told += self._gateway(device, ends)
        return told

    def _bridge(self, device: Device, here: int, ends: Sequence[tuple[Port, End]]) -> list[Column]:
        ports = device.box.ports
        # Ports of bridges are numbered from one, whatever their ifIndexes are.
        number = {port.index: place for place, port in enumerate(ports, 1)}
        entries = sorted(
            (vlan, mac.to_bytes(6, "big"), number[port])
            for mac, port in self._tables[here].items()
            if port in number
            for vlan in self._heard_in(mac)
        )
        indexes = [ber.subidentifiers([vlan, *mac]) for vlan, mac, _ in entries]
        uplinks = {_carrier(device.box, port) for port, _ in ends}
        return [
            Column(
                oid_body(f"{Q_BRIDGE}.2.2.1.2"),
                indexes,
                self._ports(device, [port for _, _, port in entries], len(ports)),
            ),
            table(f"{BRIDGE}.1.4.1", 2, list(number.values()), [ber.integer(port.index) for port in ports]),
            *self._spanning_tree(device, here, number),
            *_vlans(device, number, uplinks),
        ]

    def _heard_in(self, mac: int) -> tuple[int, ...]:
        """A gateway is heard in every VLAN."""
        host = self._hosts[mac]
        is_gateway = any(_number(chassis(each.box)) == mac for each in self._gateways)
        return VLANS if is_gateway else (host.vlan,)

    @cached_property
    def _gateways(self) -> list[Device]:
        return [device for device in self._devices.values() if device.box.family == "wan"]

    @staticmethod
    def _ports(device: Device, ports: list[int], most: int) -> Values:
        steady = [ber.integer(port) for port in ports]
        turned = [ber.integer(port % most + 1) for port in ports]
        return lambda at: turned if device.is_looped and int(at / LOOP_TURN) % 2 else steady

    def _spanning_tree(self, device: Device, here: int, number: Mapping[int, int]) -> list[Column]:
        tree, root = self._tree, self._boxes[self._tree.root[here]]
        numbers = list(number.values())
        states, designated = [], []
        for port in device.box.ports:
            is_up = device.is_up(port.index, port.up)
            is_blocked = (here, port.index) in tree.blocked
            states.append(ber.integer(1 if not is_up else 2 if is_blocked else 5))
            beyond = tree.next[here].get(port.index) if tree.root_port.get(here) == port.index else None
            designated.append(text(_bridge_id(self._boxes[here if beyond is None else beyond])))

        def changes(at: float) -> list[bytes]:
            looped = LOOP_CHANGES * max(0.0, at - device.looped_since) if device.is_looped else 0.0
            return [ber.integer(int(self._changes.get(here, 1) + looped) % 2**32, ber.COUNTER32)]

        return [
            scalar(f"{STP}.4", changes),
            scalar(f"{STP}.5", lambda at: [text(_bridge_id(root))]),
            scalar(f"{STP}.6", lambda at: [ber.integer(2000 * tree.cost[here])]),
            scalar(f"{STP}.7", lambda at: [ber.integer(number.get(tree.root_port.get(here, 0), 0))]),
            table(f"{STP}.15.1", 3, numbers, states),
            table(f"{STP}.15.1", 8, numbers, designated),
        ]

    def _gateway(self, device: Device, ends: Sequence[tuple[Port, End]]) -> list[Column]:
        """What routes: its addresses, at a site in every VLAN, whom it knows there, and where it sends packets."""
        inward = [(port, box) for port, (box, _) in ends if box.name in self._bridges and box.site == device.box.site]
        port, box = inward[0] if inward else (None, None)
        own = routing.addresses(device, port.index if port else 0, VLANS)
        hops = routing.routes(device, own, self._branches())
        known = self._known(device, port, box) if port and box and device.box.family == "wan" else []
        kinds = {4: 1, 6: 2}
        rows = [
            ber.subidentifiers([port.index if port else 0, kinds[version], len(octets), *octets])
            for version, octets, _ in known
        ]
        macs = [text(mac.to_bytes(6, "big")) for _, _, mac in known]
        return [*routing.columns(own, hops), Column(oid_body("1.3.6.1.2.1.4.35.1.4"), rows, lambda at: macs)]

    def _known(self, device: Device, port: Port, box: Box) -> list[tuple[int, bytes, int]]:
        """Version, address and MAC address of everybody whom a gateway hears at a port."""
        root = self._tree.root[self._bridges[box.name]]
        is_up = device.is_up(port.index, port.up)
        return sorted(
            (ipaddress.ip_address(address).version, ipaddress.ip_address(address).packed, mac)
            for mac, host in self._hosts.items()
            if is_up and self._tree.root[self._at[mac]] == root and self._boxes[self._at[mac]].site == device.box.site
            for address in host.addresses
        )

    def _branches(self) -> list[tuple[Box, bool]]:
        """The routers of branches, and whether their first transport is up."""
        found = []
        for each in self._gateways:
            first = next((port for port in each.box.ports if port.name == "wan1"), None)
            if first is not None and each.box.site not in ("Central", "Depot"):
                found.append((each.box, each.is_up(first.index, first.up)))
        return found


def _shape(tree: Tree, root: int) -> set[tuple[int, int, int]]:
    """The links of one tree."""
    return {
        (here, port, there)
        for here, ports in tree.next.items()
        if tree.root.get(here) == root
        for port, there in ports.items()
    }


def _carrier(box: Box, port: Port) -> int:
    """What carries the frames of a port: itself, or the aggregate that it is a member of."""
    return port.aggregate or port.index if any(each.index == port.aggregate for each in box.ports) else port.index


def _bridge_id(box: Box) -> bytes:
    return PRIORITY[box.family].to_bytes(2, "big") + chassis(box)


def _aggregates(device: Device) -> list[Column]:
    members = [port for port in device.box.ports if port.aggregate]
    attached = [ber.integer(port.aggregate if device.is_up(port.index, port.up) else 0) for port in members]
    return [table("1.2.840.10006.300.43.1.2.1.1", 13, [port.index for port in members], attached)] if members else []


def _stack(device: Device) -> list[Column]:
    """What runs over what (ifStackTable): tunnels over the ports that carry them, aggregates over their members."""
    pairs = [(port.index, port.carrier) for port in device.box.ports if port.carrier]
    pairs += [(port.aggregate, port.index) for port in device.box.ports if port.aggregate]
    rows = [ber.subidentifiers(list(pair)) for pair in sorted(pairs)]
    return [Column(oid_body("1.3.6.1.2.1.31.1.2.1.3"), rows, lambda at: [ber.integer(1)] * len(rows))] if rows else []


def _vlans(device: Device, number: Mapping[int, int], uplinks: set[int]) -> list[Column]:
    """All VLANs on whatever leads on, one of them untagged on each access port."""
    access = {
        port.index: vlan_of(port, device.box.site)
        for port in device.box.ports
        if port.kind == ETHERNET and port.index not in uplinks and not port.alias.startswith(LEADS_ON)
    }
    missing = {(port, vlan) for port, vlans in device.missing_vlans.items() for vlan in vlans}
    rows = [ber.subidentifiers([0, vlan]) for vlan in VLANS]

    def listed(ports: Iterable[int]) -> bytes:
        bits = bytearray(-(-len(number) // 8))
        for port in ports:
            place = number[port] - 1
            bits[place // 8] |= 0x80 >> place % 8
        return text(bytes(bits))

    trunks = [each.index for each in device.box.ports if each.index in uplinks]
    plain = {vlan: [port for port, of in access.items() if of == vlan] for vlan in VLANS}
    egress = [listed([*(port for port in trunks if (port, vlan) not in missing), *plain[vlan]]) for vlan in VLANS]
    entry = f"{Q_BRIDGE}.4.2.1"
    return [
        Column(oid_body(f"{entry}.3"), rows, lambda at: [ber.integer(vlan, ber.GAUGE32) for vlan in VLANS]),
        Column(oid_body(f"{entry}.4"), rows, lambda at: egress),
        Column(oid_body(f"{entry}.5"), rows, lambda at: [listed(plain[vlan]) for vlan in VLANS]),
        table(f"{Q_BRIDGE}.4.3.1", 1, list(VLANS), [text(NAMES[vlan]) for vlan in VLANS]),
        table(
            f"{Q_BRIDGE}.4.5.1",
            1,
            list(number.values()),
            [ber.integer(access.get(port.index, 1), ber.GAUGE32) for port in device.box.ports],
        ),
    ]
