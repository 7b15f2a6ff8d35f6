"""What probes came to, as it is stored: appended by COPY, read as arrays, several intervals joined to one."""

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

import numpy as np
from django.db import transaction
from numpy.typing import NDArray

from lumtar.core.paths.kinds import PARTS
from lumtar.core.paths.service_times import ServiceTimes
from lumtar.core.paths.statistics import Summary, joined_quantiles
from lumtar.domain.operation import due
from lumtar.domain.operation.due import Sums
from lumtar.domain.operation.partitioned import Partitioned
from lumtar.domain.readings import bulk
from lumtar.domain.readings.services import claim_batch

MINUTES = Partitioned("paths_minute", timedelta(days=1), timedelta(days=35))
FIVES = Partitioned("paths_fiveminutes", MINUTES.length, MINUTES.kept)
HOURS = Partitioned("paths_hour", timedelta(days=30), timedelta(days=800))
DAYS = Partitioned("paths_day", timedelta(days=400), HOURS.kept)
SUMS = {
    FIVES: Sums("paths: five minutes", timedelta(minutes=5)),
    HOURS: Sums("paths: hours", timedelta(hours=1)),
    DAYS: Sums("paths: days", timedelta(days=1)),
}
"""The levels that are joined from the one beneath, of which the lowest are minutes."""
JUDGING = Sums("paths: judged hours", timedelta(hours=1))
COUNTS = ("sent", "lost", "wrong", "duplicates", "reordered", "bursts", "longest_burst")
TRIPS = ("least", "p5", "p25", "p50", "p75", "p95", "longest")
MEANS = ("mean", "variation", "variation_95", "jitter", "out", "back", *PARTS)
LAST = ("certificate_days",)
"""Of several intervals the last one's is meant."""
FLOATS = (*TRIPS, *MEANS, *LAST)
ROW = np.dtype([("path", "i8"), ("at", "f8"), *((name, "i4") for name in COUNTS), *((name, "f8") for name in FLOATS)])
"""An interval of a path; ``at`` is its begin in seconds of the epoch, times are microseconds, NaN is not known."""
Rows = NDArray[np.void]


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
    if table is MINUTES:
        due.note([*SUMS.values(), JUDGING], rows["at"])


def read(paths: Iterable[int] | None, start: datetime, end: datetime, table: Partitioned = MINUTES) -> Rows:
    """The intervals of some paths (None is all of them) that begin within a time, in the order of path and time."""
    among = "" if paths is None else "path_id IN (SELECT unnest(%(paths)s::bigint[])) AND"
    values = {"paths": list(paths or ()), "start": start, "end": end}
    sql = f"""SELECT path_id, date_part('epoch', at), {", ".join(f"{name}::int4" for name in COUNTS)}, {", ".join(f'"{name}"' for name in FLOATS)}
        FROM {table} WHERE {among} at >= %(start)s AND at < %(end)s"""
    rows = bulk.fetch(sql, values, [(name, ROW[name].str[1:]) for name in ROW.names or ()]).astype(ROW)
    return rows[np.lexsort((rows["at"], rows["path"]))]


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
