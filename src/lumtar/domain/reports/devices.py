"""Devices and sites with their state, now and at any past time."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import connection

from lumtar.domain.inventory.scope import NATURAL, at_site, in_group, search
from lumtar.domain.reports.states import there, worst


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
    serial: str
    mac: str
    ports: int
    severity: int


def find(
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
        where.append("d.retired_at IS NOT NULL" if retired else there(at))
    if site:
        where.append(at_site(site, values))
    if group is not None:
        where.append(in_group(group, values))
    if only is not None:
        where.append("d.id = %(only)s")
        values["only"] = only
    search(words, ("d.name", "d.address", "d.model", "d.sys_name", "d.serial", "d.base_mac"), where, values)
    if at is None:
        state = "ds.reach, ds.since, ds.reason"
        gap = ""
    else:
        state = "CASE WHEN g.id IS NOT NULL THEN 'silent' WHEN d.added_at <= %(at)s THEN 'answers' ELSE 'unknown' END, g.start, coalesce(g.words, '')"
        gap = """LEFT JOIN LATERAL (SELECT * FROM readings_gap WHERE device_id = d.id AND reason = 'silent' AND start <= %(at)s
            AND ("end" IS NULL OR "end" > %(at)s) ORDER BY start DESC LIMIT 1) g ON true"""
    severity = worst("a.device_id = d.id", at)
    sql = f"""
        SELECT d.id, d.name, d.address, d.port, s.name, d.model, d.maker, d.enabled, d.interval_s, {state}, ds.answered_at, ds.next_poll_at,
            ds.started_at, ds.rtt_ms, ds.poll_ms, d.serial, d.base_mac,
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
        WHERE {there(at)} {then} GROUP BY 1 ORDER BY coalesce(s.name, '') {NATURAL}"""
    with connection.cursor() as cursor:
        cursor.execute(sql, {"at": at})
        return [(str(name), int(devices), int(interfaces)) for name, devices, interfaces in cursor.fetchall()]
