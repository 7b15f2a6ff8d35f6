"""The context of a chart of an interface: speeds in force, gaps, what happened, what only Ethernet counts."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import connection

from lumtar.core.alarms.facts import sentence
from lumtar.core.ethernet import COUNTERS

MOST_GAPS, MOST_MARKS = 500, 200
OF_ALL = ("restart", "inventory", "user")
"""What happens to a device happens to each of its ports; of what happens to another port this is not so."""

SPEED = "since, in_bps, out_bps, in_source, out_source, port_bps FROM inventory_interfacespeed WHERE interface_id = %(interface)s"
SQL = f"""SELECT
    (SELECT json_agg(s ORDER BY since) FROM (
        (SELECT {SPEED} AND since <= %(start)s ORDER BY since DESC LIMIT 1)
        UNION ALL (SELECT {SPEED} AND since > %(start)s AND since < %(end)s)
    ) s),
    (SELECT json_agg(g) FROM (
        SELECT start, "end", reason, words FROM readings_gap WHERE (device_id = %(device)s OR device_id IS NULL)
        AND start < %(end)s AND ("end" IS NULL OR "end" > %(start)s) ORDER BY start LIMIT {MOST_GAPS}
    ) g),
    (SELECT json_agg(m ORDER BY at) FROM (
        SELECT extract(epoch FROM at)::float8 AS at, kind, severity, facts, words FROM (
            SELECT c.at, 'alarm' AS kind, c.severity::int, c.facts, NULL AS words FROM alarms_alarmchange c
            JOIN alarms_alarm a ON a.id = c.alarm_id
            WHERE c.at >= %(start)s AND c.at < %(end)s
            AND (a.interface_id = %(interface)s OR (a.device_id = %(device)s AND a.interface_id IS NULL))
            UNION ALL
            SELECT at, kind, NULL, NULL, text || CASE WHEN by = '' THEN '' ELSE ' (' || by || ')' END FROM logbook_entry
            WHERE device_id = %(device)s AND at >= %(start)s AND at < %(end)s
            AND (interface_id = %(interface)s OR (interface_id IS NULL AND kind = ANY(%(of_all)s)))
        ) happened ORDER BY at DESC LIMIT {MOST_MARKS}
    ) m),
    (SELECT row_to_json(e) FROM (
        SELECT {", ".join(f"coalesce(sum({name}), 0)::bigint AS {name}" for name in COUNTERS)}
        FROM readings_etherneterrors WHERE interface_id = %(interface)s AND at > %(start)s AND at <= %(end)s
    ) e)"""


@dataclass(frozen=True, slots=True)
class Context:
    """Rows as the database tells them, times as text but for those of marks (seconds of the epoch).

    Attributes
    ----------
    speeds : since, in_bps, out_bps, in_source, out_source, port_bps; the first one from before the start
    gaps : start, end, reason, words
    marks : at, kind, severity (of an alarm's change, 0 is cleared; else None), words; the newest if there are many
    ethernet : the counts of COUNTERS
    """

    speeds: list[dict[str, Any]]
    gaps: list[dict[str, Any]]
    marks: list[dict[str, Any]]
    ethernet: dict[str, int]


def read(interface: int, device: int, start: datetime, end: datetime) -> Context:
    """All of it from start to end, by one query."""
    values: dict[str, Any] = {
        "interface": interface,
        "device": device,
        "start": start,
        "end": end,
        "of_all": list(OF_ALL),
    }
    with connection.cursor() as cursor:
        cursor.execute(SQL, values)
        speeds, gaps, marks, ethernet = cursor.fetchone()
    for mark in marks or []:
        if facts := mark.pop("facts"):
            mark["words"] = sentence(facts)
    return Context(speeds or [], gaps or [], marks or [], ethernet)
