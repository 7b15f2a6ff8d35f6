"""Tables that are partitioned by time: partitions made ahead, looked at by the database, dropped when they are old."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from django.db import connection, transaction

MAKING = 7_402_320
"""Who makes partitions holds this advisory lock."""
BEGIN = datetime(2000, 1, 1, tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class Partitioned:
    """A table with a column ``at``; as text it is its name.

    Attributes
    ----------
    length : of a partition
    kept : how long rows are kept at least
    """

    name: str
    length: timedelta
    kept: timedelta

    def __str__(self) -> str:
        return self.name

    def _start(self, at: datetime) -> datetime:
        return BEGIN + (at - BEGIN) // self.length * self.length

    def _partition(self, start: datetime) -> str:
        return f"{self.name}_{start:%Y%m%d_%H}"

    @transaction.atomic
    def ensure(self, first: datetime, last: datetime) -> None:
        """Make the partitions that hold a time, as far as they are missing."""
        start = self._start(first)
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_advisory_xact_lock(%s)", [MAKING])
            while start <= last:
                name = self._partition(start)
                cursor.execute("SELECT to_regclass(%s)", [name])
                if cursor.fetchone()[0] is None:
                    bounds = f"FROM ('{start.isoformat()}') TO ('{(start + self.length).isoformat()}')"
                    cursor.execute(f"CREATE TABLE {name} PARTITION OF {self.name} FOR VALUES {bounds}")
                start += self.length

    def ensure_ahead(self, now: datetime) -> None:
        """Make the partitions for more than a day."""
        self.ensure(now - timedelta(hours=2), now + timedelta(hours=26))

    def analyse(self, at: datetime) -> None:
        """Have the database look at the partition that holds a time: rows came in bulk, and questions come before its own look."""
        with connection.cursor() as cursor:
            cursor.execute(f"ANALYZE {self._partition(self._start(at))}")

    def drop_old(self, now: datetime) -> int:
        """Drop partitions of which all rows are older than they are kept. Returns how many."""
        dropped = 0
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT inhrelid::regclass::text FROM pg_inherits WHERE inhparent = %s::regclass", [self.name]
            )
            for (name,) in cursor.fetchall():
                start = datetime.strptime(name.rsplit(f"{self.name}_", 1)[1], "%Y%m%d_%H").replace(tzinfo=UTC)
                if start + self.length < now - self.kept:
                    cursor.execute(f"DROP TABLE {name}")
                    dropped += 1
        return dropped
