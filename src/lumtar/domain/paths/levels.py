"""What probes came to at several levels: minutes, five minutes, hours and days, each joined from the one beneath.

A time is read from the coarsest intervals that are fine enough for what is asked. What is not joined yet, and the ends of the time
that are no whole intervals, are read from the level beneath.
"""

import math
import time
from collections.abc import Iterable
from datetime import datetime, timedelta
from functools import partial
from itertools import pairwise

import numpy as np
from django.db import connection

from lumtar.domain.operation import due
from lumtar.domain.operation.partitioned import Partitioned
from lumtar.domain.paths.store import (
    DAYS,
    FIVES,
    HOURS,
    MINUTES,
    SUMS,
    Rows,
    append,
    joined,
    moment,
    read,
)

LEVELS = (MINUTES, FIVES, HOURS, DAYS)
SECONDS = {MINUTES: 60, **{table: int(sums.length.total_seconds()) for table, sums in SUMS.items()}}
SHORT = timedelta(hours=12)
"""A longer time is drawn, and rehearsed, from hours."""
WIDTHS = (60, 3600, 6 * 3600, 86_400)
"""Seconds of an interval as it is drawn."""
MOST_DRAWN = 721
"""Intervals in a drawing: as many as can be told from each other."""
Span = tuple[float, float]


def level_of(start: datetime, end: datetime) -> tuple[Partitioned, int]:
    """The one level that a time is rehearsed from, and seconds of its intervals."""
    table = MINUTES if end - start <= SHORT else HOURS
    return table, SECONDS[table]


def base_of(start: datetime, step_s: float) -> int:
    """Seconds of the coarsest intervals that are not longer than ``step_s``, of those that are still kept of a time; a minute at least."""
    return SECONDS[_level(start, step_s)]


def _level(start: datetime, step_s: float) -> Partitioned:
    fit = [table for table in LEVELS if SECONDS[table] <= step_s] or [MINUTES]
    kept = [table for table in LEVELS if start.timestamp() > time.time() - table.kept.total_seconds()] or [DAYS]
    return max(fit[-1], kept[0], key=LEVELS.index)


def read_span(paths: Iterable[int] | None, start: datetime, end: datetime, step_s: float) -> Rows:
    """The intervals of a time, none longer than ``step_s`` where shorter ones are kept, in the order of path and time."""
    rows = np.concatenate(_read(paths, (start.timestamp(), end.timestamp()), _level(start, step_s)))
    return rows[np.lexsort((rows["at"], rows["path"]))]


def _read(paths: Iterable[int] | None, span: Span, table: Partitioned) -> list[Rows]:
    start, end = span
    if table is MINUTES:
        return [read(paths, moment(start), moment(end))]
    step, finer = SECONDS[table], LEVELS[LEVELS.index(table) - 1]
    # An end that is no whole interval is read from finer ones as long as there are any; then the whole interval stands for it.
    oldest = time.time() - finer.kept.total_seconds()
    first = (math.ceil if start >= oldest else math.floor)(start / step) * step
    last = (math.floor if end >= oldest else math.ceil)(end / step) * step
    if first >= last:
        return _read(paths, span, finer)
    waiting = [each.timestamp() for each in due.within(SUMS[table], moment(first), moment(last))]
    rows = read(paths, moment(first), moment(last), table)
    parts = [rows[~np.isin(rows["at"], waiting)]]
    for part in _together([(start, first), *((begin, begin + step) for begin in waiting), (last, end)]):
        parts += _read(paths, part, finer)
    return parts


def _together(spans: Iterable[Span]) -> list[Span]:
    """Times in their order, those that touch as one, without those that are empty."""
    found: list[Span] = []
    for start, end in spans:
        if start >= end:
            continue
        if found and found[-1][1] == start:
            start = found.pop()[0]
        found.append((start, end))
    return found


def roll_up(table: Partitioned, start: datetime) -> int:
    """Join an interval of a level from the one beneath, anew. Returns how many paths had any."""
    end = start + SUMS[table].length
    made = joined(read_span(None, start, end, SECONDS[LEVELS[LEVELS.index(table) - 1]]))
    made["at"] = start.timestamp()
    if len(made):
        table.ensure(start, start)
    with connection.cursor() as cursor:
        cursor.execute(f"DELETE FROM {table} WHERE at = %s", [start])
    append(made, table=table)
    return len(made)


def work_off(now: datetime) -> int:
    """Join what is over or got something late. Returns the rows that this made."""
    rows = 0
    for finer, table in pairwise(LEVELS):
        rows += due.work_off(SUMS[table], now, finer.kept - finer.length, partial(roll_up, table))
    return rows


def width_of(start: datetime, end: datetime) -> int:
    """Seconds of each interval of a drawing: so wide that it can be told from the next, and that it is still kept."""
    length = (end - start).total_seconds()
    width = next((each for each in WIDTHS if length <= MOST_DRAWN * each), WIDTHS[-1])
    return max(width, base_of(start, width))


def drawn(rows: Rows, step_s: int) -> Rows:
    """Intervals of one path, joined to wider ones."""
    made = joined(rows, rows["at"] // step_s)
    made["at"] = made["at"] // step_s * step_s
    return made
