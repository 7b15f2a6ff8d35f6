"""The tables of LLDP-MIB (IEEE 802.1AB-2005, clause 12) and LLDP-V2-MIB (IEEE 802.1AB-2016, clause 11) as neighbours."""

import ipaddress
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from lumtar.core.text import clean
from lumtar.core.topology.identifiers import Identifier, IdKind, chassis_identifier, network_address, port_identifier
from lumtar.core.topology.neighbours import Neighbour

Index = tuple[int, ...]
Value = int | bytes
Column = Mapping[Index, Value]
"""Values of a column by the numbers behind its identifier."""


@dataclass(frozen=True, slots=True)
class OwnPort:
    """An interface of the device itself, to find which one a local port of LLDP is."""

    if_index: int
    name: str = ""
    descr: str = ""
    alias: str = ""
    mac: str = ""


@dataclass(frozen=True, slots=True)
class Remotes:
    """The remote systems table: columns of lldpRemTable or lldpV2RemTable by row.

    ``is_if_index`` tells whether the local port in a row's index is an ifIndex (LLDP-V2-MIB) or a number of the agent's own.
    """

    chassis_kind: Column
    chassis: Column
    port_kind: Column
    port: Column
    port_descr: Column
    sys_name: Column
    sys_descr: Column
    is_if_index: bool


LOCAL_AT = 1
"""Where the local port stands in a row's index, behind the time mark."""


def neighbours(
    remotes: Remotes,
    addresses: Sequence[Index],
    local_kind: Column,
    local_port: Column,
    own: Sequence[OwnPort],
) -> list[Neighbour]:
    """The neighbours in a remote systems table.

    Parameters
    ----------
    addresses : indexes of the management address table: those of the row, then family and octets of an address with its length
    local_kind, local_port : lldpLocPortIdSubtype and lldpLocPortId by local port number
    own : the device's interfaces
    """
    managed = _addresses(addresses, size=4 if remotes.is_if_index else 3)
    found = []
    for index, octets in remotes.chassis.items():
        kind, port = remotes.chassis_kind.get(index), remotes.port.get(index)
        if not isinstance(kind, int) or not isinstance(octets, bytes) or not isinstance(port, bytes):
            # The table changed while it was read; the next look has the whole row.
            continue
        number = index[LOCAL_AT]
        if remotes.is_if_index:
            if_index, local = _by_index(number, own)
        else:
            if_index, local = _local(number, local_kind.get((number,)), local_port.get((number,)), own)
        found.append(
            Neighbour(
                if_index,
                local,
                chassis_identifier(kind, octets),
                port_identifier(_number(remotes.port_kind.get(index)), port),
                _text(remotes.port_descr.get(index)),
                _text(remotes.sys_name.get(index)),
                _text(remotes.sys_descr.get(index)),
                managed.get(index, ()),
            )
        )
    return found


def _number(value: Value | None) -> int:
    return value if isinstance(value, int) else 0


def _text(value: Value | None) -> str:
    return clean(value) if isinstance(value, bytes) else ""


def _addresses(indexes: Sequence[Index], size: int) -> dict[Index, tuple[str, ...]]:
    """Management addresses by row; the address itself stands in the index: its family, its length, its octets."""
    managed: dict[Index, tuple[str, ...]] = {}
    for index in indexes:
        row, rest = index[:size], index[size:]
        if len(rest) < 2 or len(rest) != rest[1] + 2 or any(octet > 255 for octet in rest):
            continue
        if address := network_address(bytes((rest[0], *rest[2:]))):
            managed[row] = (*managed.get(row, ()), address)
    return managed


def _by_index(number: int, own: Sequence[OwnPort]) -> tuple[int | None, str]:
    for port in own:
        if port.if_index == number:
            return number, port.name or port.descr
    return None, str(number)


def _local(number: int, kind: Value | None, octets: Value | None, own: Sequence[OwnPort]) -> tuple[int | None, str]:
    """Which interface a local port number of LLDP-MIB stands for, and what it is called.

    The standard leaves the numbers to the agent; most use the ifIndex, but what the port calls itself is surer.
    """
    if isinstance(kind, int) and isinstance(octets, bytes):
        said = port_identifier(kind, octets)
        matching = [port for port in own if _is(port, said)]
        if len(matching) == 1:
            return matching[0].if_index, matching[0].name or said.value
        if not any(port.if_index == number for port in own):
            return None, said.value
    return _by_index(number, own)


def _is(port: OwnPort, said: Identifier) -> bool:
    value = said.value.lower()
    if said.kind is IdKind.MAC:
        return port.mac.lower() == value
    if said.kind is IdKind.ALIAS:
        return port.alias == said.value
    if said.kind is IdKind.LOCAL and said.value.isdigit():
        return port.if_index == int(said.value)
    return value in (port.name.lower(), port.descr.lower()) and bool(value)


def own_neighbours(
    names: Column, ports: Column, addresses: Column, if_index_at: int, own: Sequence[OwnPort]
) -> list[Neighbour]:
    """The neighbours in a table of a maker's own.

    Parameters
    ----------
    names, ports, addresses : by row: what the neighbour and its port are called, and its address as octets or text
    if_index_at : which number of a row's index is the own port's ifIndex, from 1
    """
    found = []
    for index, said in names.items():
        name, port = _text(said), _text(ports.get(index))
        if not name or len(index) < if_index_at:
            continue
        if_index, local = _by_index(index[if_index_at - 1], own)
        address = _address(addresses.get(index))
        found.append(
            Neighbour(
                if_index, local, Identifier(IdKind.LOCAL, name), Identifier(IdKind.NAME, port), "", name, "",
                (address,) if address else (),
            )
        )  # fmt: skip
    return found


def _address(value: Value | None) -> str:
    """An address as four or sixteen octets, or as text; empty if it is none."""
    if not isinstance(value, bytes):
        return ""
    try:
        return str(ipaddress.ip_address(value if len(value) in (4, 16) else value.decode()))
    except ValueError:
        return ""
