"""What probes came to, as it is stored: appended by COPY, joined to hours, read as arrays."""

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

import numpy as np
from django.db import connection, transaction
from numpy.typing import NDArray

from lumtar.core.paths.kinds import PARTS
from lumtar.core.paths.service_times import ServiceTimes
from lumtar.core.paths.statistics import Summary, joined_quantiles
from lumtar.domain.operation.partitioned import Partitioned
from lumtar.domain.readings import bulk
from lumtar.domain.readings.services import claim_batch

MINUTES = Partitioned("paths_minute", timedelta(days=1), timedelta(days=35))
HOURS = Partitioned("paths_hour", timedelta(days=30), timedelta(days=800))
COUNTS = ("sent", "lost", "wrong", "duplicates", "reordered", "bursts", "longest_burst")
TRIPS = ("least", "p5", "p25", "p50", "p75", "p95", "longest")
MEANS = ("mean", "variation", "variation_95", "out", "back", *PARTS)
LAST = ("jitter", "certificate_days")
"""Of several intervals the last one's are meant."""
FLOATS = (*TRIPS, *MEANS, *LAST)
ROW = np.dtype([("path", "i8"), ("at", "f8"), *((name, "i4") for name in COUNTS), *((name, "f8") for name in FLOATS)])
"""An interval of a path; ``at`` is its begin in seconds of the epoch, times are microseconds, NaN is not known."""
Rows = NDArray[np.void]
SHORT = timedelta(hours=12)
"""A longer time is read from hours."""
WIDTHS = (60, 3600, 6 * 3600, 86_400)
"""Seconds of an interval as it is drawn."""
MOST_DRAWN = 721


def moment(at: float) -> datetime:
    """A time as the database has it, from seconds of the epoch."""
    return datetime.fromtimestamp(at, UTC)


def row_of(path: int, at: int, told: Summary, service: ServiceTimes = ServiceTimes()) -> tuple[Any, ...]:
    """An interval as it is stored."""
    named = {name: getattr(service if hasattr(service, name) else told, name) for name in (*COUNTS, *MEANS, *LAST)}
    trips = (told.least, *told.quantiles, told.longest)
    return (path, float(at), *(named[name] for name in COUNTS), *trips, *(named[name] for name in (*MEANS, *LAST)))


@transaction.atomic
def append(rows: Rows, batch: UUID | None = None, table: Partitioned = MINUTES) -> None:
    """Append intervals; with the number of a batch once, however often it is tried."""
    if not len(rows) or (batch is not None and not claim_batch(batch)):
        return
    columns: list[bulk.Column] = [("path_id", "i8", rows["path"]), ("at", "at", rows["at"])]
    columns += [(name, "i4", rows[name]) for name in COUNTS]
    columns += [(f'"{name}"', "f8", rows[name]) for name in FLOATS]
    bulk.copy(table.name, columns)


def read(paths: Iterable[int], start: datetime, end: datetime, table: Partitioned = MINUTES) -> Rows:
    """The intervals of some paths that begin within a time, in the order of path and time."""
    values = {"paths": list(paths), "start": start, "end": end}
    sql = f"""SELECT path_id, date_part('epoch', at), {", ".join(f"{name}::int4" for name in COUNTS)}, {", ".join(f'"{name}"' for name in FLOATS)}
        FROM {table} WHERE path_id IN (SELECT unnest(%(paths)s::bigint[])) AND at >= %(start)s AND at < %(end)s"""
    rows = bulk.fetch(sql, values, [(name, ROW[name].str[1:]) for name in ROW.names or ()]).astype(ROW)
    return rows[np.lexsort((rows["at"], rows["path"]))]


@transaction.atomic
def roll_up(start: datetime) -> int:
    """Join the minutes of an hour, anew. Returns how many paths had any."""
    end = start + timedelta(hours=1)
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT DISTINCT path_id FROM {MINUTES} WHERE at >= %s AND at < %s", [start, end])
        paths = [int(row[0]) for row in cursor.fetchall()]
        cursor.execute(f"DELETE FROM {HOURS} WHERE at = %s", [start])
    made = joined(read(paths, start, end))
    made["at"] = start.timestamp()
    append(made, table=HOURS)
    return len(made)


def joined(rows: Rows, group: NDArray[Any] | None = None) -> Rows:
    """Several intervals of a path as one, for each path; it begins with the first of them.

    Parameters
    ----------
    rows : in the order of path and time
    group : what is put together within a path, rising with time; None is everything
    """
    if not len(rows):
        return rows[:0]
    is_other = np.diff(rows["path"]) != 0
    if group is not None:
        is_other |= np.diff(group) != 0
    begins = np.flatnonzero(np.append(True, is_other))
    came = (rows["sent"] - rows["lost"]).astype("f8")
    made = rows[begins].copy()
    for name in COUNTS:
        made[name] = (np.maximum if name == "longest_burst" else np.add).reduceat(rows[name], begins)
    trips = joined_quantiles(np.stack([rows[name] for name in TRIPS], axis=1), came, begins)
    for place, name in enumerate(TRIPS):
        made[name] = trips[:, place]
    for name in MEANS:
        known = ~np.isnan(rows[name]) & (came > 0)
        total = np.add.reduceat(np.where(known, rows[name] * came, 0.0), begins)
        weight = np.add.reduceat(np.where(known, came, 0.0), begins)
        with np.errstate(invalid="ignore"):
            made[name] = np.where(weight > 0, total / weight, np.nan)
    for name in LAST:
        newest = np.maximum.reduceat(np.where(np.isnan(rows[name]), -1, np.arange(len(rows))), begins)
        made[name] = np.where(newest >= begins, rows[name][newest], np.nan)
    return made


def level_of(start: datetime, end: datetime) -> tuple[Partitioned, int]:
    """From where a time is read, and seconds of its intervals."""
    return (MINUTES, 60) if end - start <= SHORT else (HOURS, 3600)


def read_level(paths: Iterable[int], start: datetime, end: datetime) -> tuple[Rows, Rows]:
    """The intervals of some paths as a time is shown: minutes; or hours, and apart from these the minutes that are not joined yet."""
    wanted = list(paths)
    table, _ = level_of(start, end)
    rows = read(wanted, start, end, table)
    if table is MINUTES:
        return rows, rows[:0]
    newest = float(rows["at"].max()) + 3600 if len(rows) else start.timestamp()
    return rows, read(wanted, max(start, datetime.fromtimestamp(newest, start.tzinfo)), end)


def drawn(rows: Rows, length: timedelta) -> tuple[Rows, int]:
    """The intervals of one path as a time is drawn, and seconds of each: wide enough that each of them can be told from the next.

    Parameters
    ----------
    rows : as `read_level` reads them, minutes that are not joined yet after the hours
    length : of the time that is drawn
    """
    step = next(width for width in WIDTHS if length.total_seconds() <= MOST_DRAWN * width or width == WIDTHS[-1])
    made = joined(rows, rows["at"] // step)
    made["at"] = made["at"] // step * step
    return made, step
