"""Reading access points and wireless clients from the tables that a profile names."""

from collections.abc import Mapping

from lumtar.core.own_tables import WirelessTables
from lumtar.core.topology.lldp import Column
from lumtar.core.topology.wireless import Wireless, access_points, clients
from lumtar.wire import ber
from lumtar.wire import tables as wire
from lumtar.wire.session import Session

MOST_CLIENTS = 60_000
"""Rows that are read; the largest controllers serve about so many."""


async def read_wireless(session: Session, tables: WirelessTables) -> Wireless:
    """The access points and clients that a device tells of.

    Raises
    ------
    Fault
    """
    session.start_over()
    try:
        points = access_points(await _columns(session, tables.columns("point")), tables.point_up)
        return Wireless(points, clients(await _columns(session, tables.columns("client")), points))
    finally:
        session.give_back()


async def _columns(session: Session, named: Mapping[str, str]) -> dict[str, Column]:
    if not named:
        return {}
    read = await wire.read_columns(session, [ber.oid_body(oid) for oid in named.values()], most=MOST_CLIENTS)
    return {name: column.by_index() for name, column in zip(named, read, strict=True)}
