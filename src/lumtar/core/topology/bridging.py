"""Bridges as BRIDGE-MIB (RFC 4188) and Q-BRIDGE-MIB (RFC 4363) tell of them: forwarding tables, spanning tree, VLANs.

Port numbers of bridges are turned into ifIndexes here; nothing further in knows of them.
"""

import zlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from lumtar.core.topology.macs import mac_of_octets, mac_text

Index = tuple[int, ...]
Column = Mapping[Index, int | bytes]
FORWARDING = np.dtype([("mac", "<u8"), ("port", "<i8"), ("vlan", "<i4")])


@dataclass(frozen=True, slots=True, eq=False)
class Forwarding:
    """A forwarding table of n stations: at which port each was heard, and in which VLAN (0 if that is not known).

    ``rows`` is sorted by address; ports are ifIndexes, or whatever :meth:`at_ports` was given.
    """

    rows: NDArray[np.void] = field(default_factory=lambda: np.zeros(0, FORWARDING))

    @classmethod
    def of(cls, entries: Iterable[tuple[int, int, int]]) -> "Forwarding":
        """A table of address, port and VLAN."""
        return cls(np.unique(np.array(list(entries), FORWARDING)))

    def __len__(self) -> int:
        return len(self.rows)

    def at_ports(self, known: Mapping[int, int]) -> "Forwarding":
        """The table with other numbers for its ports; entries at ports without one are left out."""
        rows, (ports, places) = self.rows.copy(), np.unique(self.rows["port"], return_inverse=True)
        numbers = np.array([known.get(port, -1) for port in ports.tolist()], np.int64)
        rows["port"] = numbers[places]
        return Forwarding(rows[rows["port"] >= 0])

    def packed(self) -> bytes:
        """It as it is stored."""
        return zlib.compress(self.rows.tobytes(), 1)

    @classmethod
    def of_packed(cls, piece: bytes) -> "Forwarding":
        """It from how it is stored."""
        return cls(np.frombuffer(zlib.decompress(piece), FORWARDING))


class Role(StrEnum):
    """What a port does in the spanning tree (IEEE 802.1Q-2018, clause 13.12), as far as BRIDGE-MIB tells."""

    ROOT = "root"
    DESIGNATED = "designated"
    ALTERNATE = "alternate"
    DISABLED = "disabled"


@dataclass(frozen=True, slots=True)
class SpanningTree:
    """What a bridge knows of its spanning tree: the bridge at its root, and what its own ports do.

    Attributes
    ----------
    root : priority and address of the root; empty if there is no spanning tree
    root_port : ifIndex of the port that leads there; None if it is the root itself
    changes : dot1dStpTopChanges, a counter
    """

    root: str = ""
    root_port: int | None = None
    root_cost: int | None = None
    changes: int | None = None
    roles: Mapping[int, Role] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class PortVlans:
    """The VLANs of a port: the one of untagged frames that come in, and those that leave it tagged and untagged."""

    pvid: int = 0
    tagged: tuple[int, ...] = ()
    untagged: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class Bridge:
    """All that a device tells of itself as a bridge."""

    address: str = ""
    forwarding: Forwarding = field(default_factory=Forwarding)
    tree: SpanningTree = SpanningTree()
    vlans: Mapping[int, str] = field(default_factory=dict)
    """Names by number."""
    ports: Mapping[int, PortVlans] = field(default_factory=dict)
    """By ifIndex."""
    aggregates: Mapping[int, int] = field(default_factory=dict)
    """Of each member of an aggregate, by ifIndex, the aggregate's ifIndex."""


def forwarding(
    by_vlan: Column, plain: Column, if_index_of: Mapping[int, int], vlan_of: Mapping[int, int]
) -> Forwarding:
    """The forwarding table, of Q-BRIDGE-MIB where there is one, else of BRIDGE-MIB.

    Parameters
    ----------
    by_vlan : dot1qTpFdbPort by number of the filtering database and address
    plain : dot1dTpFdbPort by address
    if_index_of : dot1dBasePortIfIndex; empty if the device does not tell, port numbers are ifIndexes then
    vlan_of : VLAN of each filtering database; a database that is not named has the number of its VLAN
    """
    entries = []
    for index, port in (by_vlan or plain).items():
        mac = mac_of_octets(index[-6:]) if len(index) == (7 if by_vlan else 6) else None
        if mac is None or not isinstance(port, int) or port <= 0:
            continue
        if_index = if_index_of.get(port, 0) if if_index_of else port
        if if_index:
            entries.append((mac, if_index, vlan_of.get(index[0], index[0] if index[0] < 4095 else 0) if by_vlan else 0))
    return Forwarding.of(entries)


def bridge_id(octets: object) -> str:
    """A bridge's identifier: its priority, and its address (IEEE 802.1D-2004, clause 9.2.5)."""
    if not isinstance(octets, bytes) or len(octets) != 8 or not any(octets):
        return ""
    return f"{int.from_bytes(octets[:2], 'big')} {mac_text(int.from_bytes(octets[2:], 'big'))}"


BLOCKING, DISABLED, BROKEN = 2, 1, 6
"""dot1dStpPortState."""


def port_roles(
    states: Column, designated: Column, own_address: str, root_port: int, if_index_of: Mapping[int, int]
) -> dict[int, Role]:
    """What the ports of a bridge do, by ifIndex.

    Parameters
    ----------
    states, designated : dot1dStpPortState and dot1dStpPortDesignatedBridge by port number
    root_port : dot1dStpRootPort
    """
    roles = {}
    for index, state in states.items():
        port = index[0]
        if_index = if_index_of.get(port, 0) if if_index_of else port
        if not if_index:
            continue
        if state in (DISABLED, BROKEN):
            roles[if_index] = Role.DISABLED
        elif port == root_port:
            roles[if_index] = Role.ROOT
        elif bridge_id(designated.get(index)).endswith(own_address) and state != BLOCKING and own_address:
            roles[if_index] = Role.DESIGNATED
        else:
            roles[if_index] = Role.ALTERNATE if state == BLOCKING else Role.DESIGNATED
    return roles


def ports_of(octets: object) -> list[int]:
    """The port numbers of a PortList (RFC 4363): the highest bit of the first octet is port 1."""
    if not isinstance(octets, bytes):
        return []
    bits = np.unpackbits(np.frombuffer(octets, np.uint8))
    return [int(each) + 1 for each in np.flatnonzero(bits)]


def port_vlans(egress: Column, untagged: Column, pvids: Column, if_index_of: Mapping[int, int]) -> dict[int, PortVlans]:
    """The VLANs of ports, by ifIndex.

    Parameters
    ----------
    egress, untagged : dot1qVlanCurrentEgressPorts and dot1qVlanCurrentUntaggedPorts by time mark and VLAN
    pvids : dot1qPvid by port number
    """
    out: dict[int, list[int]] = {}
    plain: dict[int, list[int]] = {}
    for column, found in ((egress, out), (untagged, plain)):
        for index, octets in column.items():
            for port in ports_of(octets) if len(index) == 2 and 0 < index[1] < 4095 else ():
                found.setdefault(port, []).append(index[1])
    vlans = {}
    for port in {*out, *(index[0] for index in pvids)}:
        if if_index := if_index_of.get(port, 0) if if_index_of else port:
            pvid, bare = pvids.get((port,)), sorted(set(plain.get(port, ())))
            tagged = sorted(set(out.get(port, ())) - set(bare))
            vlans[if_index] = PortVlans(pvid if isinstance(pvid, int) else 0, tuple(tagged), tuple(bare))
    return vlans
