"""LLDP of stand-ins (IEEE 802.1AB): what they tell of their own ports, and of whoever is at the other end of each cable."""

import ipaddress
from collections.abc import Mapping
from functools import partial

from lab.bridging import Switching
from lab.device import Device, chassis
from lab.mib import Column, text
from lab.ports import mac_of
from lab.scenario import ETHERNET, Box, Port, Scenario, said_of
from lab.wireless import Wireless
from lumtar.wire import ber
from lumtar.wire.ber import oid_body

LOCAL, REMOTE, MANAGED = "1.0.8802.1.1.2.1.3.7.1", "1.0.8802.1.1.2.1.4.1.1", "1.0.8802.1.1.2.1.4.2.1"
MAC_ADDRESS, BY_ALIAS, BY_MAC, BY_NAME, BY_NUMBER = 4, 1, 3, 5, 7
NAMES_PORTS = {"acc": BY_NAME, "core": BY_NUMBER, "wan": BY_MAC, "fw": BY_ALIAS, "wlc": BY_NAME}
"""How each family names its ports (LldpPortIdSubtype); others know nothing of LLDP."""
TELLS = ("acc", "core", "wan", "wlc")
"""Families that also tell what they hear; a firewall only sends."""

End = tuple[Box, Port]


def cables(scenario: Scenario) -> list[tuple[End, End]]:
    """The cables of a scenario: two ports whose names say that each leads to the other's box, in the order of the ports."""
    leads: dict[tuple[str, str], list[End]] = {}
    for box in scenario.boxes:
        for port in box.ports:
            if port.alias.startswith(("To ", "Uplink to ", "Backbone to ")) and port.kind == ETHERNET:
                leads.setdefault((box.name, port.alias.rsplit("o ", 1)[-1]), []).append((box, port))
    return [
        pair
        for (here, there), ends in leads.items()
        if here < there
        for pair in zip(ends, leads.get((there, here), []), strict=False)
    ]


class Cabling:
    """Every cable of a network with the two devices that it joins.

    When one is pulled both ports go down, when a device loses its power the ports of its neighbours do; what everybody hears
    follows, and who can be reached from where the collector stands.
    """

    def __init__(self, scenario: Scenario, devices: Mapping[str, Device], collector_at: str = "") -> None:
        self._devices = devices
        self._collector_at = collector_at
        self._ends: dict[str, list[tuple[Port, End]]] = {name: [] for name in devices}
        self.switching = Switching(scenario, devices)
        self._wireless = Wireless(devices)
        self._steady: dict[str, list[Column]] = {}
        """What controllers tell beside access points and clients."""
        for one, other in cables(scenario):
            for (box, port), end in ((one, other), (other, one)):
                self._ends[box.name].append((port, end))
        for name, device in devices.items():
            device.link_changed = partial(self._follow, name)
            device.power_changed = partial(self._follow_power, name)
        self.renew()

    def _follow(self, name: str, index: int, up: bool) -> None:
        """The other end of a cable does as this one."""
        for port, (box, other) in self._ends[name]:
            if port.index == index and self._devices[box.name].fault(other.index).down == up:
                self._devices[box.name].set_link(other.index, up)
        self.renew()

    def _follow_power(self, name: str, on: bool) -> None:
        for _, (box, other) in self._ends[name]:
            if self._devices[box.name].fault(other.index).down == on:
                self._devices[box.name].set_link(other.index, on)
        self.renew()

    def _cut_off(self) -> None:
        """Whoever cannot be reached from the collector answers nothing. A device without cables hangs on its site's first one."""
        joined: dict[str, set[str]] = {name: set() for name in self._devices}
        for name, device in self._devices.items():
            for port, (box, other) in self._ends[name]:
                if device.is_up(port.index, port.up) and self._devices[box.name].is_up(other.index, other.up):
                    joined[name].add(box.name)
            for port in device.box.ports:
                if port.alias.startswith("Transport ") and device.is_up(port.index, port.up):
                    joined.setdefault(port.alias, set()).add(name)
                    joined[name].add(port.alias)
            if not joined[name] and not self._ends[name]:
                first = next((each for each in self._devices.values() if each.box.site == device.box.site), device)
                near = first.box.name if self._ends[first.box.name] else self._collector_at
                joined[near].add(name)
        reached, waiting = {self._collector_at}, [self._collector_at]
        while waiting:
            here = waiting.pop()
            if here in self._devices and self._devices[here].manners.silent:
                continue
            more = joined[here] - reached
            reached |= more
            waiting += more
        for name, device in self._devices.items():
            device.is_cut_off = name not in reached

    def renew(self) -> None:
        """Tell anew what everybody hears, and who can be reached."""
        if self._collector_at:
            self._cut_off()
        self.switching.renew(self._ends)
        for name, device in self._devices.items():
            told = self.switching.columns(device, self._ends[name])
            if device.box.family in TELLS:
                told += _columns(device, [end for end in self._ends[name] if self._is_heard(device, *end)])
            if device.box.family == "wlc":
                self._steady[name] = told
            else:
                device.tell(told)
        self.roam()

    def roam(self) -> None:
        """Tell anew which access points there are, and which clients they have by now."""
        for name, told in self._steady.items():
            device = self._devices[name]
            device.tell([*told, *self._wireless.columns(device, device.clock())])

    def exchange(self, one: tuple[str, int], other: tuple[str, int]) -> None:
        """Somebody plugged two cables in at each other's far end; each is named by a device and a port.

        Raises
        ------
        KeyError
            if there is no cable at one of the ports
        """
        (near, far), (near_2, far_2) = self._cable(*one), self._cable(*other)
        for end, beyond, is_new in (
            (near, far, False), (far, near, False), (near_2, far_2, False), (far_2, near_2, False),
            (near, far_2, True), (far_2, near, True), (near_2, far, True), (far, near_2, True),
        ):  # fmt: skip
            listed = self._ends[end[0].name]
            if is_new:
                listed.append((end[1], beyond))
            else:
                listed.remove((end[1], beyond))
        self.renew()

    def _cable(self, name: str, index: int) -> tuple[End, End]:
        for port, end in self._ends[name]:
            if port.index == index:
                return (self._devices[name].box, port), end
        raise KeyError(f"no cable at port {index} of {name}")

    def _is_heard(self, device: Device, port: Port, end: End) -> bool:
        box, other = end
        peer = self._devices[box.name]
        if device.is_deaf(port.index):
            return False
        is_up = device.is_up(port.index, port.up) and peer.is_up(other.index, other.up)
        return is_up and box.family in NAMES_PORTS


def _port_id(box: Box, port: Port) -> tuple[int, bytes]:
    """Subtype and identifier of a port."""
    kind = NAMES_PORTS[box.family]
    return kind, {
        BY_NAME: port.name.encode(),
        BY_NUMBER: str(port.index).encode(),
        BY_MAC: mac_of(box, port),
        BY_ALIAS: port.alias.encode(),
    }[kind]


def _columns(device: Device, heard: list[tuple[Port, End]]) -> list[Column]:
    own = [port for port in device.box.ports if port.kind == ETHERNET]
    local = [ber.subidentifiers([port.index]) for port in own]
    ids = [_port_id(device.box, port) for port in own]
    # Time mark, number of the own port, number of the neighbour there.
    heard = sorted(heard, key=lambda each: each[0].index)
    rows = [ber.subidentifiers([0, port.index, 1]) for port, _ in heard]
    ends = [end for _, end in heard]
    remote = [_port_id(*end) for end in ends]

    def column(entry: str, number: int, indexes: list[bytes], values: list[bytes]) -> Column:
        return Column(oid_body(f"{entry}.{number}"), indexes, lambda at: values)

    addresses = [
        ber.subidentifiers([0, port.index, 1, 1, 4, *ipaddress.IPv4Address(box.address).packed])
        for port, (box, _) in heard
    ]
    return [
        column(LOCAL, 2, local, [ber.integer(kind) for kind, _ in ids]),
        column(LOCAL, 3, local, [text(value) for _, value in ids]),
        column(REMOTE, 4, rows, [ber.integer(MAC_ADDRESS)] * len(ends)),
        column(REMOTE, 5, rows, [text(chassis(box)) for box, _ in ends]),
        column(REMOTE, 6, rows, [ber.integer(kind) for kind, _ in remote]),
        column(REMOTE, 7, rows, [text(value) for _, value in remote]),
        column(REMOTE, 8, rows, [text(said_of(box.family, port)["descr"]) for box, port in ends]),
        column(REMOTE, 9, rows, [text(box.name) for box, _ in ends]),
        column(REMOTE, 10, rows, [text(f"{box.family} of {box.site}") for box, _ in ends]),
        column(MANAGED, 3, addresses, [ber.integer(2)] * len(addresses)),
    ]
