"""The disk that readings take, and will take."""

from dataclasses import dataclass
from datetime import date

from django.db import connection

from lumtar.core.levels import Level
from lumtar.domain.readings import retention
from lumtar.domain.readings.partitions import LEVELS, existing

USUAL_BYTES = {Level.READINGS: 150, Level.FIVE_MINUTES: 230, Level.HOURS: 230, Level.DAYS: 1500}
"""Of a row with its index, until there are enough rows to measure it."""
ENOUGH_ROWS = 5000


@dataclass(frozen=True, slots=True)
class LevelUse:
    """A level: for how many days it is kept, what it takes now, and what it will take when it is full."""

    level: Level
    days: int
    oldest: date | None
    rows: int
    bytes: int
    bytes_a_row: float
    rows_a_day: int
    bytes_when_full: int


def use() -> list[LevelUse]:
    """What each level takes, and will take when it has been kept for as long as is set."""
    there = existing()
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT parent.relname, sum(greatest(child.reltuples, 0))::bigint, sum(pg_total_relation_size(child.oid))::bigint,"
            " coalesce(sum(pg_total_relation_size(child.oid)) FILTER (WHERE child.reltuples > 0), 0)::bigint"
            " FROM pg_inherits JOIN pg_class parent ON parent.oid = inhparent JOIN pg_class child ON child.oid = inhrelid"
            " WHERE parent.relname = ANY(%s) GROUP BY 1",
            [[tables[0] for tables in LEVELS.values()]],
        )
        sizes = {row[0]: row[1:] for row in cursor.fetchall()}
        cursor.execute(
            "SELECT count(*), coalesce(sum(86400.0 / d.interval_s), 0) FROM inventory_interface i"
            " JOIN inventory_device d ON d.id = i.device_id WHERE i.gone_at IS NULL AND d.retired_at IS NULL AND d.enabled"
        )
        interfaces, polls = cursor.fetchone()
    kept_for, levels = retention.current(), []
    daily = {
        Level.READINGS: int(polls),
        Level.FIVE_MINUTES: 288 * interfaces,
        Level.HOURS: 24 * interfaces,
        Level.DAYS: interfaces,
    }
    for level, field in retention.FIELDS.items():
        table = LEVELS[level][0]
        rows, taken, of_counted = sizes.get(table, (0, 0, 0))
        each = of_counted / rows if rows > ENOUGH_ROWS else float(USUAL_BYTES[level])
        days = getattr(kept_for, field)
        oldest = there[table][0].start.date() if there[table] else None
        full = int(each * daily[level] * days)
        levels.append(LevelUse(level, days, oldest, rows, taken, round(each, 1), daily[level], full))
    return levels
