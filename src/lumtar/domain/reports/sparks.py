"""Small lines beside alarms."""

from datetime import datetime, timedelta

from django.db import connection

from lumtar.core.counters import Flag
from lumtar.core.measures.rates import sql_bits_per_second, sql_utilisation
from lumtar.domain.alarms.queries import AlarmRow


def _share(way: str) -> str:
    return sql_utilisation(sql_bits_per_second(f"r.{way}_octets", "r.elapsed_ms"), f"s.{way}_bps")


SPAN = timedelta(hours=2)
POINTS = 48


def of(alarms: list[AlarmRow], until: datetime) -> dict[int, list[float | None]]:
    """Utilisation of the alarms' interfaces over the two hours before a time, by alarm; one query for all."""
    wanted = {alarm.interface_id: alarm.id for alarm in alarms if alarm.interface_id}
    if not wanted:
        return {}
    step = SPAN.total_seconds() / POINTS
    sql = f"""
        SELECT r.interface_id, floor(extract(epoch FROM r.at - %(start)s) / {step})::int, max(greatest(
            {_share("in")}, {_share("out")}))
        FROM readings_reading r
        LEFT JOIN LATERAL (SELECT in_bps, out_bps FROM inventory_interfacespeed
            WHERE interface_id = r.interface_id AND since <= %(end)s ORDER BY since DESC LIMIT 1) s ON true
        WHERE r.interface_id = ANY(%(ids)s) AND r.at > %(start)s AND r.at <= %(end)s
            AND r.elapsed_ms > 0 AND r.flags & {int(Flag.BRIDGED)} = 0
        GROUP BY 1, 2"""
    with connection.cursor() as cursor:
        cursor.execute(sql, {"ids": list(wanted), "start": until - SPAN, "end": until})
        rows = cursor.fetchall()
    lines: dict[int, list[float | None]] = {alarm: [None] * POINTS for alarm in wanted.values()}
    for interface, place, value in rows:
        lines[wanted[interface]][min(place, POINTS - 1)] = None if value is None else round(value, 1)
    return lines
