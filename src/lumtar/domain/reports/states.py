"""The state of interfaces and devices at a time, as SQL that lists, cells and counts are made from."""

from datetime import datetime, timedelta

from lumtar.core.counters import GAP
from lumtar.core.measures.rates import sql_bits_per_second, sql_per_second, sql_utilisation
from lumtar.domain.readings import partitions, retention
from lumtar.domain.readings.rollups import RATES

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


def state(at: datetime | None, of_all: bool) -> str:
    """A query for the state of interfaces at a time: the newest states, or from readings or hours."""
    if at is None:
        return LIVE
    if not retention.are_readings_kept(at):
        return PAST_HOUR
    return PAST.format(last=LAST_OF_ALL if of_all and partitions.is_written_to(at) else LAST_OF_EACH)


def silence(at: datetime | None) -> str:
    """A common table of devices and whether they keep silent."""
    silent = "ds.reach = 'silent'"
    if at is not None:
        silent = """EXISTS (SELECT 1 FROM readings_gap g WHERE g.device_id = d.id AND g.reason = 'silent'
            AND g.start <= %(at)s AND (g."end" IS NULL OR g."end" > %(at)s))"""
    return f"""WITH silence AS (SELECT d.id, coalesce({silent}, false) AS silent FROM inventory_device d
        LEFT JOIN inventory_devicestate ds ON ds.device_id = d.id)"""


def worst(whose: str, at: datetime | None) -> str:
    """The worst severity of the alarms (a) that are active somewhere, or were at a time."""
    if at is None:
        return f"coalesce((SELECT max(severity) FROM alarms_alarm a WHERE {whose} AND NOT a.is_cleared), 0)"
    return f"""coalesce((SELECT max(c.severity) FROM alarms_alarm a JOIN LATERAL (SELECT severity FROM alarms_alarmchange
        WHERE alarm_id = a.id AND at <= %(at)s ORDER BY at DESC, id DESC LIMIT 1) c ON true WHERE {whose}), 0)"""


def there(at: datetime | None) -> str:
    """A condition: the device was not retired yet."""
    return "d.retired_at IS NULL" if at is None else "(d.retired_at IS NULL OR d.retired_at > %(at)s)"


def ports_from(at: datetime | None, of_all: bool) -> str:
    """Interfaces (i) with device (d), site (s), silence and state (n)."""
    return f"""FROM inventory_interface i
        JOIN inventory_device d ON d.id = i.device_id
        JOIN silence ON silence.id = d.id
        LEFT JOIN inventory_site s ON s.id = d.site_id
        LEFT JOIN ({state(at, of_all)}) n ON n.interface_id = i.id"""
