"""Partitions of the tables of readings: made ahead, dropped when they are old, rewritten when they are closed."""

from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

from django.db import connection

from lumtar.core.levels import Level
from lumtar.domain.readings import retention

LEVELS = {
    Level.READINGS: ("readings_reading", "readings_componentreading", "readings_devicereading"),
    Level.FIVE_MINUTES: ("readings_fiveminutes",),
    Level.HOURS: ("readings_hour", "readings_componenthour", "readings_devicehour"),
    Level.DAYS: ("readings_day",),
}
"""Tables of a level; those of days are partitioned by year, all others by day."""
DAILY = tuple(table for level, tables in LEVELS.items() if level != Level.DAYS for table in tables)
YEARLY = LEVELS[Level.DAYS]


@dataclass(frozen=True, slots=True)
class Partition:
    """A partition of a table for [start, end)."""

    table: str
    start: date
    end: date

    @property
    def name(self) -> str:
        """Its own table's name."""
        return f"{self.table}_{self.start:%Y%m%d}"


def wanted(first: date, last: date) -> list[Partition]:
    """The partitions that hold the days from first to last, both included."""
    found = []
    day = first
    while day <= last:
        found += [Partition(table, day, day + timedelta(days=1)) for table in DAILY]
        day += timedelta(days=1)
    for year in range(first.year, last.year + 1):
        found += [Partition(table, date(year, 1, 1), date(year + 1, 1, 1)) for table in YEARLY]
    return found


def existing() -> dict[str, set[date]]:
    """Where partitions begin, by table."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT parent.relname, child.relname FROM pg_inherits JOIN pg_class parent ON parent.oid = inhparent"
            " JOIN pg_class child ON child.oid = inhrelid WHERE parent.relname = ANY(%s)",
            [[*DAILY, *YEARLY]],
        )
        rows = cursor.fetchall()
    found: dict[str, set[date]] = {table: set() for table in (*DAILY, *YEARLY)}
    for parent, child in rows:
        found[parent].add(datetime.strptime(child[-8:], "%Y%m%d").date())
    return found


def ensure(first: date, last: date) -> None:
    """Make the partitions for these days that are not there yet."""
    there = existing()
    with connection.cursor() as cursor:
        for partition in wanted(first, last):
            if partition.start not in there[partition.table]:
                cursor.execute(
                    f"CREATE TABLE IF NOT EXISTS {partition.name} PARTITION OF {partition.table}"
                    f" FOR VALUES FROM ('{partition.start}T00:00:00Z') TO ('{partition.end}T00:00:00Z')"
                )


def ensure_around(now: datetime) -> None:
    """Yesterday, today and the next three days."""
    today = now.astimezone(UTC).date()
    ensure(today - timedelta(days=1), today + timedelta(days=3))


def drop_old(now: datetime) -> list[str]:
    """Drop what is older than is kept; returns the names of what was dropped."""
    there = existing()
    dropped = []
    with connection.cursor() as cursor:
        for level, oldest in retention.oldest_days(now).items():
            for table in LEVELS[level]:
                for start in sorted(there[table]):
                    end = date(start.year + 1, 1, 1) if table in YEARLY else start + timedelta(days=1)
                    if end <= oldest:
                        name = f"{table}_{start:%Y%m%d}"
                        cursor.execute(f"DROP TABLE {name}")
                        dropped.append(name)
    return dropped


def rewrite_by_subject(day: date) -> None:
    """Rewrite a closed day in the order of (interface, time): one interface's day then lies on a few pages."""
    with connection.cursor() as cursor:
        for table in DAILY:
            name = f"{table}_{day:%Y%m%d}"
            cursor.execute("SELECT to_regclass(%s) IS NOT NULL", [name])
            if cursor.fetchone()[0]:
                cursor.execute(f"CLUSTER {name} USING {name}_pkey")
                cursor.execute(f"ANALYZE {name}")
