"""What probes came to, as it is stored: appended by COPY, joined to hours, read as arrays."""

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection, transaction
from numpy.typing import NDArray

from lumtar.core.paths.statistics import Summary, joined_quantiles
from lumtar.domain.operation.partitioned import Partitioned
from lumtar.domain.readings import bulk

MINUTES = Partitioned("paths_minute", timedelta(days=1), timedelta(days=35))
HOURS = Partitioned("paths_hour", timedelta(days=30), timedelta(days=800))
COUNTS = ("sent", "lost", "duplicates", "reordered", "bursts", "longest_burst")
TRIPS = ("least", "p5", "p25", "p50", "p75", "p95", "longest")
MEANS = ("mean", "variation", "variation_95", "out", "back")
FLOATS = (*TRIPS, "mean", "variation", "variation_95", "jitter", "out", "back")
ROW = np.dtype([("path", "i8"), ("at", "f8"), *((name, "i4") for name in COUNTS), *((name, "f8") for name in FLOATS)])
"""An interval of a path; ``at`` is its begin in seconds of the epoch, times are microseconds, NaN is not known."""
Rows = NDArray[np.void]
SHORT = timedelta(hours=12)
"""A longer time is read from hours."""


def row_of(path: int, at: int, told: Summary) -> tuple[Any, ...]:
    """An interval as it is stored."""
    counts = tuple(getattr(told, name) for name in COUNTS)
    trips = (told.least, *told.quantiles, told.longest)
    rest = (told.mean, told.variation, told.variation_95, told.jitter, told.out, told.back)
    return (path, float(at), *counts, *trips, *rest)


def append(rows: Rows, table: Partitioned = MINUTES) -> None:
    """Append intervals."""
    if not len(rows):
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
    rows = read(paths, start, end)
    made = [joined(part, start.timestamp()) for _, part in bulk.groups(rows, "path")]
    append(np.array(made, ROW), HOURS)
    return len(made)


def joined(rows: Rows, at: float) -> tuple[Any, ...]:
    """Several intervals of a path as one that begins at a time."""
    came = rows["sent"] - rows["lost"]
    counts = [int(rows[name].max() if name == "longest_burst" else rows[name].sum()) for name in COUNTS]
    trips = joined_quantiles(np.stack([rows[name] for name in TRIPS], axis=1), came)
    found = {name: _weighted(rows[name], came) for name in MEANS}
    known = rows["jitter"][~np.isnan(rows["jitter"])]
    found["jitter"] = float(known[-1]) if len(known) else np.nan
    return (
        int(rows["path"][0]), at, *counts, *trips.tolist(),
        *(found[name] for name in ("mean", "variation", "variation_95", "jitter", "out", "back")),
    )  # fmt: skip


def _weighted(values: NDArray[np.float64], weights: NDArray[Any]) -> float:
    known = ~np.isnan(values) & (weights > 0)
    return float(np.average(values[known], weights=weights[known])) if known.any() else np.nan


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


def course(path: int, start: datetime, end: datetime) -> tuple[Rows, int]:
    """A path over a time, and seconds of each interval; hours that are not joined yet are joined here."""
    _, step = level_of(start, end)
    rows, late = read_level([path], start, end)
    more = [joined(part, hour * 3600.0) for hour, part in _by_hour(late)]
    return np.concatenate([rows, np.array(more, ROW)]), step


def _by_hour(rows: Rows) -> Sequence[tuple[int, Rows]]:
    hours = (rows["at"] // 3600).astype("i8")
    return [(int(hour), rows[hours == hour]) for hour in np.unique(hours)]
