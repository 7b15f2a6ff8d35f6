"""Reading the neighbours of a device: LLDP-MIB, or LLDP-V2-MIB where a device has that alone."""

from collections.abc import Mapping, Sequence

from lumtar.core.topology import Neighbour
from lumtar.core.topology.lldp import Column, OwnPort, Remotes, neighbours
from lumtar.wire import oids
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
