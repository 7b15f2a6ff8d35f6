"""Reading the neighbours of a device: LLDP-MIB, LLDP-V2-MIB where a device has that alone, or a table of its maker's own."""

from collections.abc import Mapping, Sequence

from lumtar.core.own_tables import NeighbourTable
from lumtar.core.topology import Neighbour
from lumtar.core.topology.lldp import Column, OwnPort, Remotes, neighbours, own_neighbours
from lumtar.wire import ber, oids
from lumtar.wire import tables as wire
from lumtar.wire.session import Session

NAMES = ("chassis_kind", "chassis", "port_kind", "port", "port_descr", "sys_name", "sys_descr")


async def read_neighbours(session: Session, own: Sequence[OwnPort]) -> list[Neighbour]:
    """What a device tells of its neighbours; nothing if it does not know of LLDP.

    Parameters
    ----------
    own : its interfaces, as they are known

    Raises
    ------
    Fault
    """
    session.start_over()
    try:
        for table in (oids.LLDP, oids.LLDP_V2):
            (first,) = await wire.read_columns(session, [table.remote[0]])
            if first.indexes:
                return await _read(session, table, first.by_index(), own)
        return []
    finally:
        session.give_back()


async def _read(session: Session, table: oids.LldpTable, first: Column, own: Sequence[OwnPort]) -> list[Neighbour]:
    rest = await wire.read_columns(session, table.remote[1:], len(first))
    columns: Mapping[str, Column] = dict(zip(NAMES, [first, *(each.by_index() for each in rest)], strict=True))
    (addresses,) = await wire.read_columns(session, [table.address])
    local: list[Column] = [{}, {}]
    if table.local:
        local = [each.by_index() for each in await wire.read_columns(session, table.local)]
    remotes = Remotes(**columns, is_if_index=not table.local)
    return neighbours(remotes, list(addresses.by_index()), local[0], local[1], own)


async def read_own_table(session: Session, table: NeighbourTable, own: Sequence[OwnPort]) -> list[Neighbour]:
    """What a table of a maker's own tells of neighbours.

    Raises
    ------
    Fault
    """
    session.start_over()
    try:
        wanted = [ber.oid_body(oid) for oid in (table.name, table.port, *([table.address] if table.address else []))]
        names, ports, *rest = [each.by_index() for each in await wire.read_columns(session, wanted)]
        return own_neighbours(names, ports, rest[0] if rest else {}, table.if_index_at, own)
    finally:
        session.give_back()
