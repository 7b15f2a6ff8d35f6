"""Partitions of the tables of readings: made ahead, rewritten when they have closed, dropped when they are old.

Readings of today and tomorrow lie in pieces of an hour, which are written to under an index of interfaces alone: sixty of
its entries become one, which costs less than a primary key, and none of time is needed. Soon after a piece has closed one
interface's readings lie side by side on few pages, under a primary key, and three hours are joined to one piece.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from time import sleep

from django.db import OperationalError, connection, transaction
from django.db.backends.utils import CursorWrapper
from psycopg import errors

from lumtar.core.levels import Level
from lumtar.domain.readings import retention
from lumtar.domain.readings.rollups import LOCK, hour_of

LEVELS = {
    Level.READINGS: ("readings_reading", "readings_componentreading", "readings_devicereading"),
    Level.FIVE_MINUTES: ("readings_fiveminutes",),
    Level.HOURS: ("readings_hour", "readings_componenthour", "readings_devicehour"),
    Level.DAYS: ("readings_day",),
}
"""Tables of a level, all of them partitioned by day but for the following."""
TABLES = tuple(table for tables in LEVELS.values() for table in tables)
IN_PIECES, BY_MONTH = "readings_reading", LEVELS[Level.DAYS]
PIECE, DAY, WEEK = timedelta(hours=1), timedelta(days=1), timedelta(days=7)
MONDAY = datetime(2000, 1, 3, tzinfo=UTC)
AHEAD = timedelta(days=2)
CLOSED_FOR = timedelta(minutes=15)
"""So long after its end a partition is rewritten; what comes even later goes to where it belongs all the same."""


@dataclass(frozen=True, slots=True)
class Joining:
    """Partitions of one length become one of another, so long after its end."""

    part: timedelta
    whole: timedelta
    after: timedelta

    def whole_of(self, moment: datetime) -> datetime:
        """The beginning of the whole that a moment lies in; those of weeks are Mondays."""
        return moment - (moment - MONDAY) % self.whole


JOINED = {
    IN_PIECES: Joining(PIECE, 3 * PIECE, CLOSED_FOR),
    # A list over all ports for some hours reads little of a day's partition; a year's chart wants few partitions.
    **dict.fromkeys(LEVELS[Level.HOURS], Joining(DAY, WEEK, 2 * WEEK)),
}
MAKING = 7_402_319
"""Who makes partitions holds this advisory lock."""
IN_ORDER = "in the order of subject and time"
WITHIN_S = 3
"""Seconds that a rewritten partition waits to take its place; it is tried again an hour later."""


@dataclass(frozen=True, slots=True)
class Partition:
    """A partition of a table for [start, end)."""

    table: str
    start: datetime
    end: datetime
    is_in_order: bool = False

    @property
    def name(self) -> str:
        """Its own table's name."""
        hour = f"_{self.start:%H}" if self.end - self.start < DAY else ""
        week = "_week" if self.end - self.start == WEEK else ""
        return f"{self.table}_{self.start:%Y%m%d}{hour}{week}"

    def touches(self, other: "Partition") -> bool:
        """Whether they have a time in common."""
        return self.start < other.end and other.start < self.end


def _midnight(day: date) -> datetime:
    return datetime.combine(day, time(), UTC)


def _lengths(table: str, day: date, in_pieces: bool) -> Iterator[Partition]:
    """The partitions of a table that hold a day."""
    start = _midnight(day)
    if table in BY_MONTH:
        first = start.replace(day=1)
        yield Partition(table, first, (first + timedelta(days=32)).replace(day=1))
    elif table == IN_PIECES and in_pieces:
        for number in range(DAY // PIECE):
            yield Partition(table, start + number * PIECE, start + (number + 1) * PIECE)
    else:
        yield Partition(table, start, start + DAY)


def wanted(first: date, last: date, in_pieces: bool = False) -> list[Partition]:
    """The partitions that hold the days from first to last, both included."""
    days = [first + number * DAY for number in range((last - first).days + 1)]
    return list(dict.fromkeys(each for table in TABLES for day in days for each in _lengths(table, day, in_pieces)))


def existing() -> dict[str, list[Partition]]:
    """The partitions that there are, by table, in the order of time."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT parent.relname, pg_get_expr(child.relpartbound, child.oid), obj_description(child.oid, 'pg_class')"
            " FROM pg_inherits JOIN pg_class parent ON parent.oid = inhparent"
            " JOIN pg_class child ON child.oid = inhrelid WHERE parent.relname = ANY(%s)",
            [list(TABLES)],
        )
        rows = cursor.fetchall()
    there: dict[str, list[Partition]] = {table: [] for table in TABLES}
    for table, bounds, comment in rows:
        if bounds is None:
            # It was dropped between the catalogue's two answers.
            continue
        start, end = (datetime.fromisoformat(bound).astimezone(UTC) for bound in re.findall(r"\('([^']+)'\)", bounds))
        there[table].append(Partition(table, start, end, comment == IN_ORDER))
    return {table: sorted(each, key=lambda partition: partition.start) for table, each in there.items()}


def is_written_to(moment: datetime) -> bool:
    """Whether the readings of a moment's hour are not in order yet."""
    start = hour_of(moment)
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT found IS NOT NULL AND obj_description(found, 'pg_class') IS NULL FROM to_regclass(%s) found",
            [Partition(IN_PIECES, start, start + PIECE).name],
        )
        return bool(cursor.fetchone()[0])


def missing(partitions: list[Partition]) -> list[Partition]:
    """Those of which no part is there yet."""
    there = existing()
    return [each for each in partitions if not any(each.touches(other) for other in there[each.table])]


def _bounds(partition: Partition) -> str:
    return f"FOR VALUES FROM ('{partition.start.isoformat()}') TO ('{partition.end.isoformat()}')"


def _make(partitions: list[Partition]) -> None:
    if not missing(partitions):
        return
    with transaction.atomic(), connection.cursor() as cursor:
        # IF NOT EXISTS does not keep two services from making the same one at once.
        cursor.execute("SELECT pg_advisory_xact_lock(%s)", [MAKING])
        for each in missing(partitions):
            cursor.execute(f"CREATE TABLE IF NOT EXISTS {each.name} PARTITION OF {each.table} {_bounds(each)}")
            if each.table == IN_PIECES:
                cursor.execute(f"CREATE INDEX ON {each.name} (interface_id)")


def ensure(first: date, last: date, in_pieces: bool = False) -> None:
    """Make the partitions for these days that are not there yet."""
    _make(wanted(first, last, in_pieces))


def ensure_around(now: datetime) -> None:
    """Yesterday, today and the next days."""
    today = now.astimezone(UTC).date()
    _make([*wanted(today - DAY, today - DAY), *wanted(today, today + AHEAD, in_pieces=True)])


def drop_old(now: datetime) -> list[str]:
    """Drop what is older than is kept; returns the names of what was dropped."""
    there = existing()
    old = [
        each
        for level, oldest in retention.oldest_days(now).items()
        for table in LEVELS[level]
        for each in there[table]
        if each.end <= _midnight(oldest)
    ]
    with connection.cursor() as cursor:
        for each in old:
            cursor.execute(f"DROP TABLE {each.name}")
    return [each.name for each in old]


def closed(now: datetime) -> list[Partition]:
    """What is to be rewritten: what has closed and is not in order yet, and wholes whose parts are not joined yet."""
    rewritable: list[Partition] = []
    for table, there in existing().items():
        wholes = set()
        if joining := JOINED.get(table):
            parts = [each for each in there if each.end - each.start == joining.part]
            starts = {joining.whole_of(each.start) for each in parts}
            wholes = {Partition(table, start, start + joining.whole) for start in starts}
            wholes = {whole for whole in wholes if whole.end <= now - joining.after}
        alone = [each for each in there if not each.is_in_order and each.end <= now - CLOSED_FOR]
        rewritable += [each for each in alone if not any(each.touches(whole) for whole in wholes)]
        rewritable += sorted(wholes, key=lambda whole: whole.start)
    return rewritable


class _Busy(Exception):
    """Somebody else is at work in these tables."""


def rewrite(partition: Partition) -> bool:
    """Write what lies between two times anew as one partition in the order of subject and time.

    Who reads is kept waiting for an instant only; who writes to just this time waits until it is done.

    Returns
    -------
    whether it was done; else something else was at work in these tables, and nothing has changed
    """
    sources = [
        each for each in existing()[partition.table] if partition.start <= each.start and each.end <= partition.end
    ]
    if not sources:
        return False
    names = ", ".join(each.name for each in sources)
    try:
        with transaction.atomic(), connection.cursor() as cursor:
            cursor.execute(f"SET LOCAL lock_timeout = '{WITHIN_S}s'")
            cursor.execute(f"LOCK TABLE {names} IN SHARE MODE")
            new = _copy_in_order(cursor, partition, sources)
            _keep_writers_out(cursor)
            cursor.execute(f"DROP TABLE {names}")
            cursor.execute(f"ALTER TABLE {new} RENAME TO {partition.name}")
            cursor.execute(f"ALTER TABLE {partition.table} ATTACH PARTITION {partition.name} {_bounds(partition)}")
            cursor.execute(f"ALTER TABLE {partition.name} DROP CONSTRAINT within")
    except _Busy:
        return False
    except OperationalError as error:
        if not isinstance(error.__cause__, errors.LockNotAvailable | errors.DeadlockDetected):
            raise
        return False
    if not connection.in_atomic_block:
        # Else those who read first would look up the transaction of every row, and write down what they found.
        with connection.cursor() as cursor:
            cursor.execute(f"VACUUM (FREEZE) {partition.name}")
    return True


def _copy_in_order(cursor: CursorWrapper, partition: Partition, sources: list[Partition]) -> str:
    """A table like a partition, not attached yet, with the rows of others; returns its name."""
    table, new = partition.table, f"{partition.name}_new"
    rows = " UNION ALL ".join(f"SELECT * FROM {each.name}" for each in sources)
    cursor.execute(f"CREATE TABLE {new} (LIKE {table} INCLUDING ALL)")
    # Nothing is written twice (engine/store.py), and if it were, once is enough.
    cursor.execute(f"INSERT INTO {new} SELECT DISTINCT ON (1, 2) * FROM ({rows}) held ORDER BY 1, 2")
    if table == IN_PIECES:
        cursor.execute(f"ALTER TABLE {new} ADD PRIMARY KEY (interface_id, at)")
    # With this known, taking its place needs no look at the rows.
    within = f"at >= '{partition.start.isoformat()}' AND at < '{partition.end.isoformat()}'"
    cursor.execute(f"ALTER TABLE {new} ADD CONSTRAINT within CHECK ({within})")
    cursor.execute(f"COMMENT ON TABLE {new} IS '{IN_ORDER}'")
    cursor.execute(f"ANALYZE {new}")
    return new


def _keep_writers_out(cursor: CursorWrapper) -> None:
    """Take the lock under which readings are appended. Waiting for it would be waiting for somebody who waits for us."""
    for _ in range(10 * WITHIN_S):
        cursor.execute("SELECT pg_try_advisory_xact_lock(%s)", [LOCK])
        if cursor.fetchone()[0]:
            return
        sleep(0.1)
    raise _Busy
