"""Who a neighbour is: found among the devices and ports of the inventory by what it says of itself.

The surest sign decides. One that several devices share decides nothing, and neither does any weaker one then: a link to the wrong
device is worse than one that is not there.
"""

from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field

from lumtar.core.topology.identifiers import Identifier, IdKind
from lumtar.core.topology.neighbours import Neighbour


@dataclass(frozen=True, slots=True)
class KnownDevice:
    """A device of the inventory: its addresses and MAC addresses, and what it is called."""

    pk: int
    name: str
    sys_name: str
    addresses: tuple[str, ...] = ()
    macs: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class KnownPort:
    """A port of the inventory."""

    pk: int
    device: int
    if_index: int
    name: str = ""
    descr: str = ""
    alias: str = ""
    mac: str = ""


@dataclass(frozen=True, slots=True)
class Match:
    """Who a neighbour is: the device and its port as far as they were found, and why in words."""

    device: int | None
    port: int | None
    reason: str


Places = dict[str, set[int]]


@dataclass(slots=True)
class Inventory:
    """Devices and ports, to find neighbours among."""

    devices: Mapping[int, KnownDevice]
    ports: Mapping[int, list[KnownPort]]
    """By device."""
    _macs: Places = field(default_factory=lambda: defaultdict(set))
    _addresses: Places = field(default_factory=lambda: defaultdict(set))
    _names: Places = field(default_factory=lambda: defaultdict(set))
    _hosts: Places = field(default_factory=lambda: defaultdict(set))

    @classmethod
    def of(cls, devices: Iterable[KnownDevice], ports: Iterable[KnownPort]) -> "Inventory":
        """An inventory of these."""
        by_device: dict[int, list[KnownPort]] = defaultdict(list)
        for port in ports:
            by_device[port.device].append(port)
        made = cls({each.pk: each for each in devices}, by_device)
        for device in made.devices.values():
            for mac in device.macs:
                made._macs[mac.lower()].add(device.pk)
            for address in device.addresses:
                made._addresses[address.lower()].add(device.pk)
            for name in {device.name.lower(), device.sys_name.lower()} - {""}:
                made._names[name].add(device.pk)
                made._hosts[name.split(".")[0]].add(device.pk)
        for known in by_device.values():
            for port in known:
                if port.mac:
                    made._macs[port.mac.lower()].add(port.device)
        return made

    def find(self, neighbour: Neighbour) -> Match:
        """Who a neighbour is."""
        for words, found in self._signs(neighbour):
            if len(found) > 1:
                names = ", ".join(sorted(self.devices[each].name for each in found)[:3])
                return Match(None, None, f"several devices have {words}: {names}")
            if found:
                (device,) = found
                port, said = self._port(device, neighbour)
                return Match(device, port, f"{words}; {said}")
        return Match(None, None, "no device of the inventory")

    def _signs(self, neighbour: Neighbour) -> Iterable[tuple[str, set[int]]]:
        chassis, name = neighbour.chassis, neighbour.sys_name.lower()
        if chassis.kind is IdKind.MAC:
            yield f"the MAC address {chassis.value}", self._macs.get(chassis.value.lower(), set())
        if chassis.kind is IdKind.ADDRESS:
            yield f"the address {chassis.value}", self._addresses.get(chassis.value.lower(), set())
        addresses = {device for each in neighbour.addresses for device in self._addresses.get(each.lower(), ())}
        yield f"the address {', '.join(neighbour.addresses[:2])}", addresses
        for called in dict.fromkeys((name, chassis.value.lower())):
            if called:
                yield f"the name {called}", self._names.get(called, set())
        if name:
            yield f"the host name {name.split('.')[0]}", self._hosts.get(name.split(".")[0], set())

    def _port(self, device: int, neighbour: Neighbour) -> tuple[int | None, str]:
        """Which port of a device a neighbour names, and by what."""
        ports = self.ports.get(device, [])
        for words, fits in _ways(neighbour.port, neighbour.port_descr):
            found = [port for port in ports if fits(port)]
            if len(found) == 1:
                return found[0].pk, words
        return None, f"its port “{neighbour.port.value}” was not found"


def _ways(port: Identifier, descr: str) -> Iterable[tuple[str, Callable[[KnownPort], bool]]]:
    value, lower = port.value, port.value.lower()
    if port.kind is IdKind.MAC:
        yield "port by its MAC address", lambda known: known.mac.lower() == lower
    if port.kind is IdKind.ALIAS:
        yield "port by its ifAlias", lambda known: known.alias == value
    if port.kind in (IdKind.LOCAL, IdKind.CIRCUIT, IdKind.PORT_COMPONENT, IdKind.UNKNOWN) and value.isdigit():
        yield "port by its ifIndex", lambda known: known.if_index == int(value)
    if value:
        yield "port by its ifName", lambda known: known.name.lower() == lower
        yield "port by its ifDescr", lambda known: known.descr.lower() == lower
    if descr:
        said = descr.lower()
        yield "port by its description", lambda known: said in (known.name.lower(), known.descr.lower())
        yield "port by its ifAlias", lambda known: known.alias.lower() == said
