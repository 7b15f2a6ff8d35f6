"""Every port as a cell, by site and by device."""

from dataclasses import dataclass
from datetime import datetime

from django.db import connection

from lumtar.domain.inventory.scope import EVERYWHERE, NATURAL, NO_SITE, Scope
from lumtar.domain.reports.ports import narrow
from lumtar.domain.reports.states import WINDOW, ports_from, silence, there


@dataclass(slots=True)
class SiteCells:
    """A site's ports as cells, side by side in the order of devices and indexes.

    A load is in per cent; -1 is unused, -2 down though switched on and labelled, -3 without an answer.
    ``used`` ports are up, or down though labelled; ``up`` ones are up at a device that answers.
    """

    name: str
    ids: list[int]
    loads: list[float]
    used: int
    up: int


CODE = """CASE WHEN silence.silent THEN -3 WHEN n.oper = 1
    THEN coalesce(round(greatest(n.in_percent, n.out_percent)::numeric, 1), 0)::float8
    WHEN n.admin = 1 AND i.label <> i.name THEN -2 ELSE -1 END"""
"""The load of a port, or what its cell says instead."""


def loads_of_devices(at: datetime | None = None, site: str | None = None) -> dict[int, list[float]]:
    """The loads of every device's ports as they are in SiteCells, in the order of their indexes; of a site's devices alone."""
    where, values = narrow(at, Scope(site=site))
    where.append(there(at))
    sql = f"""
        {silence(at)}
        SELECT d.id, array_agg({CODE} ORDER BY i.if_index)
        {ports_from(at, site is None)} WHERE {" AND ".join(where)} GROUP BY 1"""
    with connection.cursor() as cursor:
        cursor.execute(sql, values)
        return dict(cursor.fetchall())


def of_sites(at: datetime | None = None) -> list[SiteCells]:
    """Every port of every site, put together by the database."""
    sql = f"""
        {silence(at)}
        SELECT coalesce(s.name, '{NO_SITE}'), array_agg(i.id ORDER BY d.name {NATURAL}, i.if_index),
            array_agg({CODE} ORDER BY d.name {NATURAL}, i.if_index),
            count(*) FILTER (WHERE n.oper = 1 OR (n.oper IS NOT NULL AND i.label <> i.name)),
            count(*) FILTER (WHERE n.oper = 1 AND NOT silence.silent)
        {ports_from(at, True)}
        WHERE i.gone_at IS NULL AND {there(at)} GROUP BY 1 ORDER BY coalesce(s.name, '{NO_SITE}') {NATURAL}"""
    with connection.cursor() as cursor:
        cursor.execute(sql, {"at": at, "from": at - WINDOW if at else None})
        return [SiteCells(*row) for row in cursor.fetchall()]


@dataclass(slots=True)
class DeviceCells:
    """A device's ports side by side in the order of their indexes, with what state each is in (STATES)."""

    id: int
    name: str
    site: str
    ids: list[int]
    labels: list[str]
    names: list[str]
    states: list[str]


STATES = ("up", "down", "unused", "silent", "unknown")
"""Of a cell: up; down though switched on and labelled; down otherwise; its device does not answer; never polled."""


def of_devices(at: datetime | None = None, scope: Scope = EVERYWHERE) -> list[DeviceCells]:
    """The ports of every device as cells, put together by the database; devices in the order of site and name."""
    where, values = narrow(at, scope)
    where.append(there(at))
    sql = f"""
        {silence(at)}
        SELECT d.id, d.name, coalesce(s.name, '{NO_SITE}'), array_agg(i.id ORDER BY i.if_index), array_agg(i.label ORDER BY i.if_index),
            array_agg(i.name ORDER BY i.if_index),
            array_agg(CASE WHEN silence.silent THEN 'silent' WHEN n.oper IS NULL THEN 'unknown' WHEN n.oper = 1 THEN 'up'
                WHEN n.admin = 1 AND i.label <> i.name THEN 'down' ELSE 'unused' END ORDER BY i.if_index)
        {ports_from(at, scope.is_whole)}
        WHERE {" AND ".join(where)} GROUP BY 1, 2, 3 ORDER BY coalesce(s.name, '{NO_SITE}') {NATURAL}, d.name {NATURAL}"""
    with connection.cursor() as cursor:
        cursor.execute(sql, values)
        return [DeviceCells(*row) for row in cursor.fetchall()]
