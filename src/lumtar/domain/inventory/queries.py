"""What can be asked about devices and interfaces, now and at any past time."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import connection

from lumtar.core.counters import GAP
from lumtar.core.measures.rates import sql_bits_per_second, sql_per_second, sql_utilisation
from lumtar.domain.inventory import groups
from lumtar.domain.inventory.models import Device
from lumtar.domain.readings import partitions, retention
from lumtar.domain.readings.rollups import RATES

NO_SITE = "No site"
"""The name under which devices without a site are found."""
WINDOW = timedelta(minutes=20)
"""A past state is the last reading within so long before the time asked for."""

LIVE = """
SELECT interface_id, at, in_bps, out_bps, in_percent, out_percent, error_rate, oper, admin, since FROM readings_newest
"""
PAST_SPEED = """
LEFT JOIN LATERAL (
    SELECT in_bps, out_bps FROM inventory_interfacespeed WHERE interface_id = r.interface_id AND since <= %(at)s ORDER BY since DESC LIMIT 1
) speed ON true
"""
ERROR_RATE = sql_per_second("in_errors + out_errors + in_discards + out_discards")
IN_PERCENT, OUT_PERCENT = sql_utilisation("r.in_rate", "speed.in_bps"), sql_utilisation("r.out_rate", "speed.out_bps")
READ = f"""at, oper, {RATES["in"]} AS in_rate, {RATES["out"]} AS out_rate,
    {ERROR_RATE} AS error_rate"""
LAST_OF_EACH = f"""SELECT each.id AS interface_id, last.* FROM inventory_interface each JOIN LATERAL (
    SELECT {READ} FROM readings_reading WHERE interface_id = each.id AND at > %(from)s AND at <= %(at)s ORDER BY at DESC LIMIT 1
) last ON true"""
LAST_OF_ALL = f"""WITH near AS MATERIALIZED (
    SELECT DISTINCT ON (interface_id) interface_id, {READ} FROM readings_reading
    WHERE at > %(from)s AND at > %(at)s - (SELECT {GAP} * max(interval_s) FROM inventory_device) * interval '1 second' AND at <= %(at)s
    ORDER BY interface_id, at DESC
) SELECT * FROM near UNION ALL {LAST_OF_EACH} WHERE NOT EXISTS (SELECT 1 FROM near WHERE near.interface_id = each.id)"""
"""The same, of ports that are not in a gap in one pass: one by one would be to see each reading of an hour that is being written to."""
PAST = f"""
SELECT r.interface_id, r.at, r.in_rate AS in_bps, r.out_rate AS out_bps, {IN_PERCENT} AS in_percent,
    {OUT_PERCENT} AS out_percent, r.error_rate, r.oper, 1::smallint AS admin, NULL::timestamptz AS since
FROM ({{last}}) r {PAST_SPEED}
"""
PAST_HOUR = f"""
SELECT r.interface_id, r.at, r.in_rate AS in_bps, r.out_rate AS out_bps, {IN_PERCENT} AS in_percent,
    {OUT_PERCENT} AS out_percent, r.error_rate, r.oper, 1::smallint AS admin, NULL::timestamptz AS since
FROM (
    SELECT interface_id, at, CASE WHEN up_readings > 0 THEN 1 ELSE 2 END AS oper,
        {sql_bits_per_second("in_octets")} AS in_rate, {sql_bits_per_second("out_octets")} AS out_rate, {ERROR_RATE} AS error_rate
    FROM readings_hour WHERE at = date_trunc('hour', %(at)s::timestamptz, 'UTC')
) r {PAST_SPEED}
"""


def _state(at: datetime | None, of_all: bool) -> str:
    if at is None:
        return LIVE
    if not retention.are_readings_kept(at):
        return PAST_HOUR
    return PAST.format(last=LAST_OF_ALL if of_all and partitions.is_written_to(at) else LAST_OF_EACH)


def _silence(at: datetime | None) -> str:
    """A common table of devices and whether they keep silent."""
    silent = "ds.reach = 'silent'"
    if at is not None:
        silent = """EXISTS (SELECT 1 FROM readings_gap g WHERE g.device_id = d.id AND g.reason = 'silent'
            AND g.start <= %(at)s AND (g."end" IS NULL OR g."end" > %(at)s))"""
    return f"""WITH silence AS (SELECT d.id, coalesce({silent}, false) AS silent FROM inventory_device d
        LEFT JOIN inventory_devicestate ds ON ds.device_id = d.id)"""


def _worst(whose: str, at: datetime | None) -> str:
    """The worst severity of the alarms (a) that are active somewhere, or were at a time."""
    if at is None:
        return f"coalesce((SELECT max(severity) FROM alarms_alarm a WHERE {whose} AND NOT a.is_cleared), 0)"
    return f"""coalesce((SELECT max(c.severity) FROM alarms_alarm a JOIN LATERAL (SELECT severity FROM alarms_alarmchange
        WHERE alarm_id = a.id AND at <= %(at)s ORDER BY at DESC, id DESC LIMIT 1) c ON true WHERE {whose}), 0)"""


def _there(at: datetime | None) -> str:
    """A condition: the device was not retired yet."""
    return "d.retired_at IS NULL" if at is None else "(d.retired_at IS NULL OR d.retired_at > %(at)s)"


def _ports_from(at: datetime | None, of_all: bool) -> str:
    """Interfaces (i) with device (d), site (s), silence and state (n)."""
    return f"""FROM inventory_interface i
        JOIN inventory_device d ON d.id = i.device_id
        JOIN silence ON silence.id = d.id
        LEFT JOIN inventory_site s ON s.id = d.site_id
        LEFT JOIN ({_state(at, of_all)}) n ON n.interface_id = i.id"""


def at_site(site: str, values: dict[str, Any]) -> str:
    """A condition: the device (d) is at that site (s), or at none."""
    if site == NO_SITE:
        return "d.site_id IS NULL"
    values["site"] = site
    return "s.name = %(site)s"


def in_group(group: int, values: dict[str, Any]) -> str:
    """A condition: the device (d) has a port in that group.

    Raises
    ------
    Group.DoesNotExist
    """
    return f"d.id = ANY(ARRAY(SELECT x.device FROM ({groups.in_group(group, values)}) x))"


@dataclass(frozen=True, slots=True)
class Scope:
    """Which ports are meant: of a site, a device, a group, with a role, that hold all of some words."""

    site: str | None = None
    device: int | None = None
    group: int | None = None
    role: str = ""
    words: str = ""

    @property
    def is_whole(self) -> bool:
        """All of them."""
        return not (self.site or self.device or self.group or self.role or self.words)


EVERYWHERE = Scope()


PORT_WORDS = "(i.label || ' ' || i.name || ' ' || i.alias || ' ' || i.descr || ' ' || i.role)"
"""What words are looked for in; there is an index by groups of three letters (migration 0008)."""


def search(words: str, columns: tuple[str, ...], where: list[str], values: dict[str, Any]) -> None:
    """Add a condition for each word: it occurs in one of the columns, as it is written."""
    text = " || ' ' || ".join(columns)
    for number, word in enumerate(words.split()[:6]):
        where.append(f"({text}) ILIKE %(word{number})s")
        values[f"word{number}"] = _pattern(word)


def _pattern(word: str) -> str:
    """What ILIKE takes to find a word anywhere, as it is written."""
    return "%" + word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"


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
    severity: int


@dataclass(frozen=True, slots=True)
class PortName:
    """An interface with where it is."""

    id: int
    label: str
    name: str
    role: str
    device_id: int
    device: str
    site: str | None


def named(ids: list[int]) -> dict[int, PortName]:
    """Those of some interfaces that are there still."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT i.id, i.label, i.name, i.role, d.id, d.name, s.name FROM inventory_interface i"
            " JOIN inventory_device d ON d.id = i.device_id LEFT JOIN inventory_site s ON s.id = d.site_id"
            " WHERE i.id = ANY(%s) AND i.gone_at IS NULL AND d.retired_at IS NULL",
            [ids],
        )
        return {row[0]: PortName(*row) for row in cursor.fetchall()}


NATURAL = 'COLLATE "natural"'
"""The order of people: Site 2 comes before Site 10."""
SORTS = {
    "load": "load DESC NULLS LAST, i.id",
    "in": "n.in_bps DESC NULLS LAST, i.id",
    "out": "n.out_bps DESC NULLS LAST, i.id",
    "errors": "n.error_rate DESC NULLS LAST, i.id",
    "name": f"d.name {NATURAL}, i.if_index",
    "label": "i.label, i.id",
}
HIGHEST = {"load": "greatest(in_percent, out_percent)", "in": "in_bps", "out": "out_bps", "errors": "error_rate"}
"""What the newest states are sorted by, for lists that begin with the highest."""


def ports(
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
    where, values = _narrow(at, scope, state)
    values |= {"limit": limit, "offset": offset}
    if only is not None:
        where.append("i.id = ANY(%(only)s)")
        values["only"] = only
    severity = _worst("a.interface_id = i.id", at)
    sql = f"""
        {_silence(at)}
        SELECT i.id, i.if_index, i.label, i.name, i.role, d.id, d.name, s.name, n.at,
            CASE WHEN silence.silent THEN NULL ELSE n.in_bps END, CASE WHEN silence.silent THEN NULL ELSE n.out_bps END,
            CASE WHEN silence.silent THEN NULL ELSE n.in_percent END, CASE WHEN silence.silent THEN NULL ELSE n.out_percent END,
            n.error_rate, n.oper, n.admin, n.since, NOT silence.silent,
            CASE WHEN silence.silent THEN NULL ELSE greatest(n.in_percent, n.out_percent) END AS load, {severity}, count(*) OVER ()
        {_ports_from(at, only is None and scope.is_whole)}
        WHERE {" AND ".join(where)}
        ORDER BY {SORTS.get(sort, SORTS["name"])} LIMIT %(limit)s OFFSET %(offset)s"""
    with connection.cursor() as cursor:
        cursor.execute(sql, values)
        rows = cursor.fetchall()
    if total is None:
        total = int(rows[0][-1]) if rows else 0
    return [PortRow(*row[:-1]) for row in rows], total


def _narrow(at: datetime | None, scope: Scope, state: str = "") -> tuple[list[str], dict[str, Any]]:
    """Conditions for ports, and their values.

    Raises
    ------
    Group.DoesNotExist
    """
    where = ["i.gone_at IS NULL", _there(at)]
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
        values[f"word{number}"] = _pattern(word)
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
    where, values = _narrow(None, scope, state)
    order = SORTS.get(sort, SORTS["name"])
    tables = "FROM inventory_interface i"
    if scope.site or "d." in order:
        tables += " JOIN inventory_device d ON d.id = i.device_id LEFT JOIN inventory_site s ON s.id = d.site_id"
    else:
        # Few devices are retired: leaving theirs out costs less than joining all.
        where.remove(_there(None))
        where.append("i.device_id NOT IN (SELECT id FROM inventory_device WHERE retired_at IS NOT NULL)")
    newest = " LEFT JOIN readings_newest n ON n.interface_id = i.id"
    counted = f"SELECT count(*) {tables}{newest if state else ''} WHERE {' AND '.join(where)}"
    if state or "n." in order or "load" in order:
        tables += newest
    load = "NULL"
    if "load" in order:
        tables += " LEFT JOIN inventory_devicestate ds ON ds.device_id = i.device_id"
        load = "CASE WHEN ds.reach = 'silent' THEN NULL ELSE greatest(n.in_percent, n.out_percent) END"
    # Words and groups are dear to look for: what they leave is counted on the way. All ports are counted faster by themselves.
    is_counted = bool(scope.words) or scope.group is not None
    every = "count(*) OVER ()" if is_counted else "NULL"
    chosen = f"""SELECT i.id, {load} AS load, {every} {tables} WHERE {" AND ".join(where)}
        ORDER BY {order} LIMIT %(limit)s OFFSET %(offset)s"""
    with connection.cursor() as cursor:
        if sort in HIGHEST and scope.is_whole and not state:
            cursor.execute(_highest(sort), {"limit": limit, "offset": offset, "most": 2 * (offset + limit)})
            ids = [int(row[0]) for row in cursor.fetchall()]
            if len(ids) == limit:
                cursor.execute(counted, values)
                return ids, int(cursor.fetchone()[0])
        cursor.execute(chosen, {**values, "limit": limit, "offset": offset})
        rows = cursor.fetchall()
        ids = [int(row[0]) for row in rows]
        if offset == 0 and len(ids) < limit:
            return ids, len(ids)
        if rows and is_counted:
            return ids, int(rows[0][2])
        cursor.execute(counted, values)
        return ids, int(cursor.fetchone()[0])


def _highest(sort: str) -> str:
    """The ports of one page among those with the highest values, looked for in the newest states alone.

    Twice as many states as are wanted are taken, highest first, and those whose port is not listed are left out. If
    enough remain they are the page; if not, the whole list has to be sorted.
    """
    value = HIGHEST[sort]
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


def cells(at: datetime | None = None) -> list[SiteCells]:
    """Every port of every site, put together by the database."""
    sql = f"""
        {_silence(at)}
        SELECT coalesce(s.name, '{NO_SITE}'), array_agg(i.id ORDER BY d.name {NATURAL}, i.if_index),
            array_agg(CASE WHEN silence.silent THEN -3 WHEN n.oper = 1
                THEN coalesce(round(greatest(n.in_percent, n.out_percent)::numeric, 1), 0)::float8
                WHEN n.admin = 1 AND i.label <> i.name THEN -2 ELSE -1 END ORDER BY d.name {NATURAL}, i.if_index),
            count(*) FILTER (WHERE n.oper = 1 OR (n.oper IS NOT NULL AND i.label <> i.name)),
            count(*) FILTER (WHERE n.oper = 1 AND NOT silence.silent)
        {_ports_from(at, True)}
        WHERE i.gone_at IS NULL AND {_there(at)} GROUP BY 1 ORDER BY coalesce(s.name, '{NO_SITE}') {NATURAL}"""
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


def device_cells(at: datetime | None = None, scope: Scope = EVERYWHERE) -> list[DeviceCells]:
    """The ports of every device as cells, put together by the database; devices in the order of site and name."""
    where, values = _narrow(at, scope)
    sql = f"""
        {_silence(at)}
        SELECT d.id, d.name, coalesce(s.name, '{NO_SITE}'), array_agg(i.id ORDER BY i.if_index), array_agg(i.label ORDER BY i.if_index),
            array_agg(i.name ORDER BY i.if_index),
            array_agg(CASE WHEN silence.silent THEN 'silent' WHEN n.oper IS NULL THEN 'unknown' WHEN n.oper = 1 THEN 'up'
                WHEN n.admin = 1 AND i.label <> i.name THEN 'down' ELSE 'unused' END ORDER BY i.if_index)
        {_ports_from(at, scope.is_whole)}
        WHERE {" AND ".join(where)} GROUP BY 1, 2, 3 ORDER BY coalesce(s.name, '{NO_SITE}') {NATURAL}, d.name {NATURAL}"""
    with connection.cursor() as cursor:
        cursor.execute(sql, values)
        return [DeviceCells(*row) for row in cursor.fetchall()]


@dataclass(slots=True)
class DeviceRow:
    """A device with its state at a time."""

    id: int
    name: str
    address: str
    port: int
    site: str | None
    model: str
    maker: str
    enabled: bool
    interval_s: int
    reach: str
    since: datetime | None
    reason: str
    answered_at: datetime | None
    next_poll_at: datetime | None
    started_at: datetime | None
    rtt_ms: float | None
    poll_ms: float | None
    ports: int
    severity: int


def devices(
    at: datetime | None = None,
    *,
    site: str | None = None,
    group: int | None = None,
    only: int | None = None,
    words: str = "",
    retired: bool = False,
    limit: int = 500,
    offset: int = 0,
) -> tuple[list[DeviceRow], int]:
    """Devices with their state, and how many there are in all; the ``retired`` ones instead of the others."""
    where, values = list[str](), dict[str, Any](limit=limit, offset=offset, at=at)
    if only is None:
        where.append("d.retired_at IS NOT NULL" if retired else _there(at))
    if site:
        where.append(at_site(site, values))
    if group is not None:
        where.append(in_group(group, values))
    if only is not None:
        where.append("d.id = %(only)s")
        values["only"] = only
    search(words, ("d.name", "d.address", "d.model", "d.sys_name"), where, values)
    if at is None:
        state = "ds.reach, ds.since, ds.reason"
        gap = ""
    else:
        state = "CASE WHEN g.id IS NOT NULL THEN 'silent' WHEN d.added_at <= %(at)s THEN 'answers' ELSE 'unknown' END, g.start, coalesce(g.words, '')"
        gap = """LEFT JOIN LATERAL (SELECT * FROM readings_gap WHERE device_id = d.id AND reason = 'silent' AND start <= %(at)s
            AND ("end" IS NULL OR "end" > %(at)s) ORDER BY start DESC LIMIT 1) g ON true"""
    severity = _worst("a.device_id = d.id", at)
    sql = f"""
        SELECT d.id, d.name, d.address, d.port, s.name, d.model, d.maker, d.enabled, d.interval_s, {state}, ds.answered_at, ds.next_poll_at,
            ds.started_at, ds.rtt_ms, ds.poll_ms,
            (SELECT count(*) FROM inventory_interface i WHERE i.device_id = d.id AND i.gone_at IS NULL), {severity}, count(*) OVER ()
        FROM inventory_device d
        LEFT JOIN inventory_site s ON s.id = d.site_id
        LEFT JOIN inventory_devicestate ds ON ds.device_id = d.id {gap}
        WHERE {" AND ".join(where)} ORDER BY d.name {NATURAL}, d.id LIMIT %(limit)s OFFSET %(offset)s"""
    with connection.cursor() as cursor:
        cursor.execute(sql, values)
        rows = cursor.fetchall()
    return [DeviceRow(*row[:-1]) for row in rows], int(rows[0][-1]) if rows else 0


def site_counts(at: datetime | None = None) -> list[tuple[str, int, int]]:
    """Sites with how many devices and interfaces they have; devices without a site count under an empty name."""
    then = "" if at is None else "AND d.added_at <= %(at)s"
    seen = "" if at is None else "AND i.first_seen <= %(at)s"
    sql = f"""
        SELECT coalesce(s.name, ''), count(DISTINCT d.id), count(i.id) FROM inventory_device d
        LEFT JOIN inventory_site s ON s.id = d.site_id
        LEFT JOIN inventory_interface i ON i.device_id = d.id AND i.gone_at IS NULL {seen}
        WHERE {_there(at)} {then} GROUP BY 1 ORDER BY coalesce(s.name, '') {NATURAL}"""
    with connection.cursor() as cursor:
        cursor.execute(sql, {"at": at})
        return [(str(name), int(devices), int(interfaces)) for name, devices, interfaces in cursor.fetchall()]


@dataclass(frozen=True, slots=True)
class Polled:
    """A port, whose it is, and how often it is polled."""

    pk: int
    device_id: int
    interval_s: int


def polled(interface: int) -> Polled | None:
    """Where a port is polled, if it is there."""
    sql = """SELECT i.id, d.id, d.interval_s FROM inventory_interface i JOIN inventory_device d ON d.id = i.device_id
        WHERE i.id = %s"""
    with connection.cursor() as cursor:
        cursor.execute(sql, [interface])
        row = cursor.fetchone()
    return Polled(*row) if row else None


def places(addresses: Iterable[str]) -> dict[tuple[str, int, str], str]:
    """Which of these addresses are those of devices: (address, port, way) -> name."""
    found = Device.objects.filter(address__in=set(addresses)).values_list("address", "port", "way", "name")
    return {(address, port, way): name for address, port, way, name in found}


def device_lines() -> Iterator[dict[str, Any]]:
    """Every device that is not retired with what people say of it, as a list of devices has it."""
    found = Device.objects.filter(retired_at=None).select_related("site", "credential").prefetch_related("groups")
    for device in found.order_by("name", "pk"):
        yield {
            "address": device.address,
            "port": device.port or 161,
            "name": device.name,
            "site": device.site.name if device.site else "",
            "groups": sorted(group.name for group in device.groups.all()),
            "tags": device.tags,
            "credential": device.credential.name if device.credential else "",
            "interval": device.interval_s,
            "way": device.way,
            "own": device.own,
        }
