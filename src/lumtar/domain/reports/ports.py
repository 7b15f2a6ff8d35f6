"""Lists of interfaces with their state, now and at any past time."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple

from django.db import connection

from lumtar.domain.inventory import groups
from lumtar.domain.inventory.scope import EVERYWHERE, NATURAL, PORT_WORDS, Scope, at_site, pattern
from lumtar.domain.reports.states import WINDOW, ports_from, silence, there, worst


@dataclass(slots=True)
class PortRow:
    """An interface with its state at a time. ``answers`` is whether its device did; ``load`` the worse percentage."""

    id: int
    if_index: int
    label: str
    name: str
    role: str
    device_id: int
    device: str
    site: str | None
    at: datetime | None
    in_bps: float | None
    out_bps: float | None
    in_percent: float | None
    out_percent: float | None
    error_rate: float | None
    oper: int | None
    admin: int | None
    since: datetime | None
    answers: bool
    load: float | None
    neighbour: str
    severity: int


class Order(NamedTuple):
    """An order of a list: how, which table it needs beside the interfaces, and by which of the newest values, highest first."""

    sql: str
    table: str = ""
    highest: str = ""


SORTS = {
    "load": Order("load DESC NULLS LAST, i.id", "newest", "greatest(in_percent, out_percent)"),
    "in": Order("n.in_bps DESC NULLS LAST, i.id", "newest", "in_bps"),
    "out": Order("n.out_bps DESC NULLS LAST, i.id", "newest", "out_bps"),
    "errors": Order("n.error_rate DESC NULLS LAST, i.id", "newest", "error_rate"),
    "name": Order(f"d.name {NATURAL}, i.if_index", "device"),
    "label": Order("i.label, i.id"),
}


def find(
    at: datetime | None = None,
    scope: Scope = EVERYWHERE,
    *,
    only: list[int] | None = None,
    state: str = "",
    sort: str = "name",
    limit: int = 200,
    offset: int = 0,
) -> tuple[list[PortRow], int]:
    """Interfaces with their state, and how many there are in all.

    Parameters
    ----------
    at : a past time; None is now
    scope : which ones
    state : "up", "down" (though switched on and in use before), or anything
    sort : a key of SORTS
    """
    total = None
    if at is None and only is None:
        # Of a hundred thousand ports the few that are wanted are found first, and looked at then.
        only, total = _chosen(scope, state, sort, limit, offset)
        scope, state, offset = EVERYWHERE, "", 0
    where, values = narrow(at, scope, state)
    where.append(there(at))
    values |= {"limit": limit, "offset": offset}
    if only is not None:
        where.append("i.id = ANY(%(only)s)")
        values["only"] = only
    severity = worst("a.interface_id = i.id", at)
    sql = f"""
        {silence(at)}
        SELECT i.id, i.if_index, i.label, i.name, i.role, d.id, d.name, s.name, n.at,
            CASE WHEN silence.silent THEN NULL ELSE n.in_bps END, CASE WHEN silence.silent THEN NULL ELSE n.out_bps END,
            CASE WHEN silence.silent THEN NULL ELSE n.in_percent END, CASE WHEN silence.silent THEN NULL ELSE n.out_percent END,
            n.error_rate, n.oper, n.admin, n.since, NOT silence.silent,
            CASE WHEN silence.silent THEN NULL ELSE greatest(n.in_percent, n.out_percent) END AS load, i.neighbour, {severity}, count(*) OVER ()
        {ports_from(at, only is None and scope.is_whole)}
        WHERE {" AND ".join(where)}
        ORDER BY {SORTS.get(sort, SORTS["name"]).sql} LIMIT %(limit)s OFFSET %(offset)s"""
    with connection.cursor() as cursor:
        cursor.execute(sql, values)
        rows = cursor.fetchall()
    if total is None:
        total = int(rows[0][-1]) if rows else 0
    return [PortRow(*row[:-1]) for row in rows], total


def narrow(at: datetime | None, scope: Scope, state: str = "") -> tuple[list[str], dict[str, Any]]:
    """Conditions for ports, and their values; whether their device was there then is the caller's to ask.

    Raises
    ------
    Group.DoesNotExist
    """
    where = ["i.gone_at IS NULL"]
    values: dict[str, Any] = {"at": at, "from": at - WINDOW if at else None}
    if scope.site:
        where.append(at_site(scope.site, values))
    if scope.device is not None:
        where.append("i.device_id = %(device)s")
        values["device"] = scope.device
    if scope.group is not None:
        where.append(f"i.id = ANY(ARRAY(SELECT x.id FROM ({groups.in_group(scope.group, values)}) x))")
    if scope.role:
        where.append("i.role = %(role)s")
        values["role"] = scope.role
    for number, word in enumerate(scope.words.split()[:6]):
        values[f"word{number}"] = pattern(word)
        # Too short for the index. Letters of ASCII alone fold their case in any language, at half the cost.
        collation = ' COLLATE "C"' if word.isascii() and len(word) < 3 else ""
        # A device's name is looked at once, not once a port.
        where.append(
            f"""({PORT_WORDS}{collation} ILIKE %(word{number})s
            OR i.device_id = ANY(ARRAY(SELECT id FROM inventory_device WHERE name || ' ' || address ILIKE %(word{number})s)))"""
        )
    if state == "up":
        where.append("n.oper = 1")
    elif state == "down":
        where.append("n.oper <> 1 AND n.admin = 1")
    return where, values


def _chosen(scope: Scope, state: str, sort: str, limit: int, offset: int) -> tuple[list[int], int]:
    """The numbers of the ports of one page of a list as it is now, and how many there are in all."""
    order = SORTS.get(sort, SORTS["name"])
    where, values = narrow(None, scope, state)
    tables = "FROM inventory_interface i"
    if scope.site or order.table == "device":
        tables += " JOIN inventory_device d ON d.id = i.device_id LEFT JOIN inventory_site s ON s.id = d.site_id"
        where.append(there(None))
    else:
        # Few devices are retired: leaving theirs out costs less than joining all.
        where.append("i.device_id NOT IN (SELECT id FROM inventory_device WHERE retired_at IS NOT NULL)")
    newest = " LEFT JOIN readings_newest n ON n.interface_id = i.id"
    count = f"SELECT count(*) {tables}{newest if state else ''} WHERE {' AND '.join(where)}"
    with connection.cursor() as cursor:
        if order.highest and scope.is_whole and not state:
            cursor.execute(_highest(sort), {"limit": limit, "offset": offset, "most": 2 * (offset + limit)})
            ids = [int(row[0]) for row in cursor.fetchall()]
            if len(ids) == limit:
                cursor.execute(count, values)
                return ids, int(cursor.fetchone()[0])
        if state or order.table == "newest":
            tables += newest
        load = "NULL"
        if sort == "load":
            tables += " LEFT JOIN inventory_devicestate ds ON ds.device_id = i.device_id"
            load = "CASE WHEN ds.reach = 'silent' THEN NULL ELSE greatest(n.in_percent, n.out_percent) END"
        # Words and groups are dear to look for: what they leave is counted on the way. All ports are counted faster by themselves.
        is_counted = bool(scope.words) or scope.group is not None
        cursor.execute(
            f"""SELECT i.id, {load} AS load, {"count(*) OVER ()" if is_counted else "NULL"} {tables}
            WHERE {" AND ".join(where)} ORDER BY {order.sql} LIMIT %(limit)s OFFSET %(offset)s""",
            {**values, "limit": limit, "offset": offset},
        )
        rows = cursor.fetchall()
        ids = [int(row[0]) for row in rows]
        if offset == 0 and len(ids) < limit:
            return ids, len(ids)
        if rows and is_counted:
            return ids, int(rows[0][2])
        cursor.execute(count, values)
        return ids, int(cursor.fetchone()[0])


def _highest(sort: str) -> str:
    """The ports of one page among those with the highest values, looked for in the newest states alone.

    Twice as many states as are wanted are taken, highest first, and those whose port is not listed are left out. If
    enough remain they are the page; if not, the whole list has to be sorted.
    """
    value = SORTS[sort].highest
    silent = "AND ds.reach <> 'silent'" if sort == "load" else ""
    return f"""SELECT i.id FROM (
            SELECT interface_id, {value} AS value FROM readings_newest WHERE {value} IS NOT NULL
            ORDER BY value DESC, interface_id LIMIT %(most)s
        ) n
        JOIN inventory_interface i ON i.id = n.interface_id
        JOIN inventory_device d ON d.id = i.device_id
        JOIN inventory_devicestate ds ON ds.device_id = d.id
        WHERE i.gone_at IS NULL AND d.retired_at IS NULL {silent}
        ORDER BY n.value DESC, i.id LIMIT %(limit)s OFFSET %(offset)s"""
