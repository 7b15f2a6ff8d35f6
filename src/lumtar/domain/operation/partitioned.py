"""Tables that are partitioned by time: partitions made ahead, looked at by the database, dropped when they are old."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from django.db import connection, transaction
from django.db.backends.utils import CursorWrapper

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
        number = max(0, 1 + (last - self._start(first)) // self.length)
        starts = [self._start(first) + place * self.length for place in range(number)]
        with connection.cursor() as cursor:
            # Most often none is missing, and nobody has to wait for a long transaction in which this was asked.
            if not self._missing(cursor, starts):
                return
            cursor.execute("SELECT pg_advisory_xact_lock(%s)", [MAKING])
            for start in self._missing(cursor, starts):
                bounds = f"FROM ('{start.isoformat()}') TO ('{(start + self.length).isoformat()}')"
                cursor.execute(f"CREATE TABLE {self._partition(start)} PARTITION OF {self.name} FOR VALUES {bounds}")

    def _missing(self, cursor: CursorWrapper, starts: Sequence[datetime]) -> list[datetime]:
        names = [self._partition(start) for start in starts]
        cursor.execute(
            "SELECT to_regclass(name) IS NULL FROM unnest(%s::text[]) WITH ORDINALITY AS wanted (name, place) ORDER BY place",
            [names],
        )
        return [start for start, (is_missing,) in zip(starts, cursor.fetchall(), strict=True) if is_missing]

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
