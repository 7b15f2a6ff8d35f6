"""Periods that are due to be summed up: something within them was appended since that was done last.

Whoever appends notes the periods that it appended to; a job takes those that are over, the oldest first, and sums each of them up
anew. So nothing is left out, however long the job did not run and however late something came.
"""

import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import numpy as np
from django.db import connection, transaction
from numpy.typing import NDArray

from lumtar.domain.operation.models import DueSum

PATIENCE_S = 200.0
"""Seconds after which a job goes on at its next turn."""
NOTE = """INSERT INTO operation_duesum (what, at) SELECT * FROM unnest(%s::text[], %s::timestamptz[])
    ON CONFLICT (what, at) DO UPDATE SET at = excluded.at"""
TAKE = """DELETE FROM operation_duesum WHERE id = (
    SELECT id FROM operation_duesum WHERE what = %s AND at <= %s ORDER BY at LIMIT 1 FOR UPDATE) RETURNING at"""


@dataclass(frozen=True, slots=True)
class Sums:
    """What is summed up, in periods of one length that are counted from the epoch."""

    name: str
    length: timedelta


def note(several: Iterable[Sums], at: NDArray[np.float64]) -> None:
    """Note the periods that hold some times (seconds of the epoch), at the end of the transaction that appended.

    A period that is noted already is written again all the same: its row is locked until what was appended can be seen, so who
    takes it waits for that.
    """
    noted = []
    for each in several:
        seconds = each.length.total_seconds()
        noted += [(each.name, begin) for begin in np.unique(at // seconds * seconds).tolist()]
    # In one order, so that two who append do not wait for each other.
    noted.sort()
    whats, begins = [what for what, _ in noted], [datetime.fromtimestamp(begin, UTC) for _, begin in noted]
    with connection.cursor() as cursor:
        cursor.execute(NOTE, [whats, begins])


def within(sums: Sums, start: datetime, end: datetime) -> list[datetime]:
    """The begins of periods that are due, of those that begin within a time."""
    found = DueSum.objects.filter(what=sums.name, at__gte=start, at__lt=end)
    return list(found.order_by("at").values_list("at", flat=True))


def work_off(sums: Sums, until: datetime, kept: timedelta, sum_up: Callable[[datetime], int]) -> int:
    """Sum up the periods that ended before a time. Returns the rows that this made.

    Parameters
    ----------
    kept : how long there is what they are summed up from; of an earlier period only a part would be left
    sum_up : sums up the period that begins at a time
    """
    forget(sums, until - kept)
    rows, deadline = 0, time.monotonic() + PATIENCE_S
    while time.monotonic() < deadline:
        with transaction.atomic(), connection.cursor() as cursor:
            cursor.execute(TAKE, [sums.name, until - sums.length])
            taken = cursor.fetchone()
            if taken is None:
                break
            rows += sum_up(taken[0])
    return rows


def forget(sums: Sums, before: datetime) -> None:
    """Leave periods as they are that begin before a time."""
    DueSum.objects.filter(what=sums.name, at__lt=before).delete()
