"""Reading where a device sends packets: the table of routes of RFC 4292, or one of those that older devices have."""

import asyncio

from lumtar.core.topology import routing
from lumtar.core.topology.routing import Route, RouteColumns
from lumtar.wire import ber, oids
from lumtar.wire import tables as wire
from lumtar.wire.session import Session

MOST_ROUTES = 20_000
"""Routers of the Internet at large have a million; these are not read, since where such a router sends packets is not ours to follow."""


async def read_routes(session: Session) -> list[Route] | None:
    """The routes of a device; None if it has more of them than are read.

    Raises
    ------
    Fault
    """
    session.start_over()
    try:
        counted = await session.get([oids.INET_CIDR_ROUTE.number or b"", oids.IP_CIDR_ROUTE.number or b""])
        for tag, number in zip(counted.tags, counted.values, strict=True):
            if tag not in ber.ABSENT and isinstance(number, int) and number > MOST_ROUTES:
                return None
        for table in (oids.INET_CIDR_ROUTE, oids.IP_CIDR_ROUTE, oids.IP_ROUTE):
            (first,) = await wire.read_columns(session, table.columns[:1], most=MOST_ROUTES)
            if first.indexes:
                return await _read(session, table, first)
        return []
    finally:
        session.give_back()


async def _read(session: Session, table: oids.RouteTable, first: wire.Column) -> list[Route]:
    wanted = list(table.columns[1:])
    if table is oids.IP_ROUTE:
        wanted += [oids.IP_ROUTE_NEXT_HOP, oids.IP_ROUTE_MASK]
    rest = await wire.read_columns(session, wanted, len(first.indexes), MOST_ROUTES)
    columns = [each.by_index() for each in (first, *rest)]
    read = RouteColumns(*columns[:4])
    if table is oids.IP_ROUTE:
        return routing.old_routes(read, columns[4], columns[5])
    understand = routing.routes if table is oids.INET_CIDR_ROUTE else routing.cidr_routes
    return await asyncio.to_thread(understand, read)
