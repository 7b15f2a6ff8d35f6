"""Reading what a device tells of itself as a bridge (BRIDGE-MIB, Q-BRIDGE-MIB, IEEE8023-LAG-MIB) and of addresses (IP-MIB)."""

import asyncio
from collections.abc import Mapping, Sequence

from lumtar.core.text import clean
from lumtar.core.topology import bridging
from lumtar.core.topology.addressing import Addresses, bindings, carriers, own_addresses
from lumtar.core.topology.bridging import Bridge, SpanningTree
from lumtar.core.topology.lldp import Column
from lumtar.wire import ber, oids
from lumtar.wire import tables as wire
from lumtar.wire.session import Session

MOST_STATIONS = 120_000
"""Rows of a forwarding table or of an ARP table that are read; the largest switches hold about so many."""


async def read_bridge(session: Session) -> Bridge | None:
    """What a device tells of itself as a bridge; None if it is none, and has no aggregates either.

    Raises
    ------
    Fault
    """
    session.start_over()
    try:
        (by_vlan,) = await wire.read_columns(session, [oids.DOT1Q_FORWARDING_PORT], most=MOST_STATIONS)
        plain = wire.Column(b"", [], [])
        if not by_vlan.indexes:
            (plain,) = await wire.read_columns(session, [oids.DOT1D_FORWARDING_PORT], most=MOST_STATIONS)
        if_index = await _columns(session, [oids.DOT1D_PORT_IF_INDEX])
        aggregates = await _columns(session, [oids.LAG_ATTACHED])
        if not by_vlan.indexes and not plain.indexes and not if_index[0]:
            return Bridge(aggregates=_aggregates(aggregates[0])) if aggregates[0] else None
        vlan_table = await _columns(session, [oids.DOT1Q_VLAN_EGRESS, oids.DOT1Q_VLAN_UNTAGGED, oids.DOT1Q_VLAN_FDB])
        named = await _columns(session, [oids.DOT1Q_VLAN_NAME, oids.DOT1Q_PVID])
        ports = {index[0]: value for index, value in if_index[0].items() if isinstance(value, int) and value}
        address, tree = await _read_tree(session, ports)
        # Fifty thousand rows take some tenths of a second to understand.
        table = await asyncio.to_thread(_forwarding, by_vlan, plain, ports, vlan_table[2])
        return Bridge(
            address,
            table,
            tree,
            {index[0]: clean(name) for index, name in named[0].items() if isinstance(name, bytes)},
            bridging.port_vlans(vlan_table[0], vlan_table[1], named[1], ports),
            _aggregates(aggregates[0]),
        )
    finally:
        session.give_back()


def _forwarding(
    by_vlan: wire.Column, plain: wire.Column, ports: Mapping[int, int], databases: Column
) -> bridging.Forwarding:
    vlan_of = {number: index[1] for index, number in databases.items() if isinstance(number, int) and len(index) == 2}
    return bridging.forwarding(by_vlan.by_index(), plain.by_index(), ports, vlan_of)


async def _read_tree(session: Session, ports: Mapping[int, int]) -> tuple[str, SpanningTree]:
    """The bridge's own address, and its spanning tree."""
    wanted = (oids.BRIDGE_ADDRESS, oids.STP_CHANGES, oids.STP_ROOT, oids.STP_ROOT_COST, oids.STP_ROOT_PORT)
    answer = await session.get(wanted)
    address, changes, root, cost, root_port = (
        None if tag in ber.ABSENT else value for tag, value in zip(answer.tags, answer.values, strict=True)
    )
    own = address.hex(":") if isinstance(address, bytes) and len(address) == 6 else ""
    if not (at_root := bridging.bridge_id(root)):
        return own, SpanningTree()
    states, designated = await _columns(session, [oids.STP_PORT_STATE, oids.STP_PORT_BRIDGE])
    number = root_port if isinstance(root_port, int) else 0
    return own, SpanningTree(
        at_root,
        ports.get(number, number) or None,
        cost if isinstance(cost, int) else None,
        changes if isinstance(changes, int) else None,
        bridging.port_roles(states, designated, own, number, ports),
    )


def _aggregates(attached: Column) -> dict[int, int]:
    """Members of aggregates; a port that is attached to itself, or to nothing, is on its own."""
    return {
        index[0]: value
        for index, value in attached.items()
        if isinstance(value, int) and value and value != index[0] and len(index) == 1
    }


async def read_addresses(session: Session) -> Addresses:
    """The addresses of a device, and those that it learnt of others.

    Raises
    ------
    Fault
    """
    session.start_over()
    try:
        (new,), (old,) = [
            await wire.read_columns(session, [column], most=MOST_STATIONS) for column in (oids.ARP_NEW, oids.ARP_OLD)
        ]
        own, rows = await _columns(session, [oids.ADDRESS_IF_INDEX, oids.ADDRESS_PREFIX])
        mtus, stack = await _columns(session, [oids.IF_MTU, oids.IF_STACK])
        before, masks = await _columns(session, [oids.OLD_ADDRESS_IF_INDEX, oids.OLD_ADDRESS_MASK])
        prefixes = {index: _numbers(row) for index, row in rows.items() if isinstance(row, bytes)}
        known = await asyncio.to_thread(lambda: bindings(new.by_index(), old.by_index()))
        sizes = {index[0]: size for index, size in mtus.items() if isinstance(size, int) and size}
        return Addresses(own_addresses(own, prefixes, before, masks), known, sizes, carriers(stack))
    finally:
        session.give_back()


def _numbers(row: bytes) -> tuple[int, ...]:
    """The numbers of a row that something points to; none if it points nowhere."""
    return ber.suffix(row) if row else ()


async def _columns(session: Session, prefixes: Sequence[bytes]) -> list[Column]:
    return [each.by_index() for each in await wire.read_columns(session, prefixes)]
