"""Partitions of the tables of readings: made ahead, dropped when they are old, rewritten when they are closed."""

from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

from django.conf import settings
from django.db import connection

DAILY = ("readings_reading", "readings_componentreading", "readings_devicereading")
MONTHLY = ("readings_hour",)


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


def _month(day: date, ahead: int = 0) -> date:
    months = day.year * 12 + day.month - 1 + ahead
    return date(months // 12, months % 12 + 1, 1)


def wanted(first: date, last: date) -> list[Partition]:
    """The partitions that hold the days from first to last, both included."""
    found = []
    day = first
    while day <= last:
        found += [Partition(table, day, day + timedelta(days=1)) for table in DAILY]
        day += timedelta(days=1)
    month = _month(first)
    while month <= last:
        found += [Partition(table, month, _month(month, 1)) for table in MONTHLY]
        month = _month(month, 1)
    return found


def existing() -> dict[str, set[date]]:
    """Where partitions begin, by table."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT parent.relname, child.relname FROM pg_inherits JOIN pg_class parent ON parent.oid = inhparent"
            " JOIN pg_class child ON child.oid = inhrelid WHERE parent.relname = ANY(%s)",
            [[*DAILY, *MONTHLY]],
        )
        rows = cursor.fetchall()
    found: dict[str, set[date]] = {table: set() for table in (*DAILY, *MONTHLY)}
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
    today = now.astimezone(UTC).date()
    oldest_day = today - timedelta(days=settings.RAW_DAYS)
    oldest_month = _month(today, -settings.HOUR_MONTHS)
    dropped = []
    with connection.cursor() as cursor:
        for table, starts in existing().items():
            oldest = oldest_day if table in DAILY else oldest_month
            for start in sorted(starts):
                if start < oldest:
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
