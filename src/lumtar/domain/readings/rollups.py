"""Roll-ups: one row an interface and hour, computed by the database from the readings of that hour."""

from datetime import UTC, datetime, timedelta

from django.db import connection

from lumtar.core.counters import Flag

HOUR = timedelta(hours=1)

# A reading belongs to the hour that its time ends in: (start, end].
ROLL_UP = f"""
INSERT INTO readings_hour (
    interface_id, at, in_octets, out_octets, bridged_in_octets, bridged_out_octets, in_packets, out_packets,
    in_errors, out_errors, in_discards, out_discards, elapsed_ms, in_max_bps, out_max_bps, up_readings, readings, flags)
SELECT interface_id, date_trunc('hour', at - interval '1 microsecond', 'UTC') AS hour,
    coalesce(sum(in_octets) FILTER (WHERE NOT spans), 0), coalesce(sum(out_octets) FILTER (WHERE NOT spans), 0),
    coalesce(sum(in_octets) FILTER (WHERE spans), 0), coalesce(sum(out_octets) FILTER (WHERE spans), 0),
    sum(in_packets), sum(out_packets), sum(in_errors), sum(out_errors), sum(in_discards), sum(out_discards),
    coalesce(sum(elapsed_ms) FILTER (WHERE NOT spans), 0),
    max(in_octets * 8000::float8 / nullif(elapsed_ms, 0)) FILTER (WHERE NOT spans),
    max(out_octets * 8000::float8 / nullif(elapsed_ms, 0)) FILTER (WHERE NOT spans),
    count(*) FILTER (WHERE oper = 1), count(*), bit_or(flags)
FROM (SELECT *, (flags & {int(Flag.BRIDGED)}) <> 0 AS spans FROM {{source}} WHERE at > %s AND at <= %s) r
GROUP BY 1, 2
ON CONFLICT (interface_id, at) DO UPDATE SET
    in_octets = excluded.in_octets, out_octets = excluded.out_octets,
    bridged_in_octets = excluded.bridged_in_octets, bridged_out_octets = excluded.bridged_out_octets,
    in_packets = excluded.in_packets, out_packets = excluded.out_packets,
    in_errors = excluded.in_errors, out_errors = excluded.out_errors,
    in_discards = excluded.in_discards, out_discards = excluded.out_discards,
    elapsed_ms = excluded.elapsed_ms, in_max_bps = excluded.in_max_bps, out_max_bps = excluded.out_max_bps,
    up_readings = excluded.up_readings, readings = excluded.readings, flags = excluded.flags
"""


def hour_of(moment: datetime) -> datetime:
    """The beginning of a moment's hour."""
    return moment.astimezone(UTC).replace(minute=0, second=0, microsecond=0)


def roll_up(start: datetime, end: datetime, source: str = "readings_reading") -> int:
    """Roll up whole hours from start to end; doing it again gives the same. Returns the rows written."""
    with connection.cursor() as cursor:
        cursor.execute(ROLL_UP.format(source=source), [start, end])
        return int(cursor.rowcount)


def last_rolled() -> datetime | None:
    """The beginning of the newest hour that was rolled up."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT max(at) FROM readings_hour")
        row = cursor.fetchone()
    return row[0] if row else None


def roll_up_closed(now: datetime) -> int:
    """Roll up every closed hour that is not yet, and the last two again for readings that came late."""
    closed = hour_of(now)
    last = last_rolled()
    with connection.cursor() as cursor:
        cursor.execute("SELECT min(at) FROM readings_reading")
        oldest = cursor.fetchone()[0]
    if oldest is None:
        return 0
    start = max(hour_of(oldest), min(last or hour_of(oldest), closed - 2 * HOUR))
    return roll_up(start, closed) if start < closed else 0
