"""Totals of many interfaces over one time: top and bottom lists, grids, groups."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection
from numpy.typing import NDArray

from lumtar.core.levels import Level, Piece
from lumtar.core.measures import Counts
from lumtar.domain.readings import bulk, rollups, sums
from lumtar.domain.readings.rollups import COLUMNS, summed
from lumtar.domain.readings.sums import RATES

FEW = 500
SHORT = timedelta(hours=3)
"""Up to here a time is rounded outwards to five minutes, beyond it its beginning to a whole hour."""


@dataclass(frozen=True, slots=True)
class Summed:
    """Totals by interface, and the time that they are of after rounding it to whole sums."""

    totals: Counts
    start: datetime
    end: datetime


def of(start: datetime, end: datetime, only: Sequence[int] | None = None, needs: Sequence[str] = COLUMNS) -> Summed:
    """What every interface, or some, counted in a time; one query.

    Parameters
    ----------
    needs : columns that are wanted beside the time that was measured; the others are left at 0, rates at NaN. With some
        left out, sums are made in double precision, which costs half: they are exact below 2**53, enough for an order
    """
    if end - start > SHORT:
        start = rollups.hour_of(start)
    pieces = sums.pieces_of(start, end, (end - start).total_seconds(), Level.FIVE_MINUTES)
    wanted = [name for name in COLUMNS if name in needs or name == "elapsed_ms"]
    kinds = [("interface", "i8"), *((name, "f8" if name in RATES else "i8") for name in wanted)]
    values: dict[str, Any] = {"only": list(only or ())}
    rows = np.empty(0, kinds)
    if pieces:
        parts = " UNION ALL ".join(
            _select(piece, place, wanted, values, only is not None) for place, piece in enumerate(pieces)
        )
        columns = ", ".join(_column(name, exact=len(wanted) == len(COLUMNS)) for name in wanted)
        rows = bulk.fetch(f"SELECT interface_id, {columns} FROM ({parts}) p GROUP BY 1", values, kinds)
        rows = rows[np.argsort(rows["interface"])]
    first = pieces[0].start if pieces else start.timestamp()
    last = pieces[-1].end if pieces else end.timestamp()
    named: dict[str, Any] = {
        name: rows[name]
        if name in wanted
        else np.full(len(rows), np.nan)
        if name in RATES
        else np.zeros(len(rows), "i8")
        for name in COLUMNS
    }
    totals = Counts(rows["interface"], *speeds_of(rows["interface"], end), seconds=last - first, **named)
    return Summed(totals, datetime.fromtimestamp(first, UTC), datetime.fromtimestamp(last, UTC))


def _column(name: str, exact: bool) -> str:
    total = summed(name, name if exact or name in RATES or name == "flags" else f"{name}::float8")
    return f"coalesce({total}, 'NaN')::float8" if name in RATES else f"({total})::bigint"


def _select(piece: Piece, place: int, wanted: Sequence[str], values: dict[str, Any], is_narrowed: bool) -> str:
    values[f"start{place}"] = datetime.fromtimestamp(piece.start, UTC)
    values[f"end{place}"] = datetime.fromtimestamp(piece.end, UTC)
    mine = f"AND {bulk.AMONG}" if is_narrowed else ""
    return f"""SELECT interface_id, {", ".join(wanted)} FROM {sums.TABLES[piece.level]}
        WHERE at >= %(start{place})s AND at < %(end{place})s {mine}"""


def speeds_of(ids: NDArray[np.int64], end: datetime) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The speeds in force at the end, bits per second in and out; 0 where unknown."""
    # Looking for many one by one takes longer than reading all of them in their order.
    mine = f"AND {bulk.AMONG}" if len(ids) <= FEW else ""
    sql = f"""SELECT DISTINCT ON (interface_id) interface_id, in_bps, out_bps FROM inventory_interfacespeed
        WHERE since <= %(end)s {mine} ORDER BY interface_id, since DESC"""
    values = {"end": end, "only": ids[:FEW].tolist()}
    rows = bulk.fetch(sql, values, [("interface", "i8"), ("in", "i8"), ("out", "i8")])
    if not len(rows) or not len(ids):
        return np.zeros(len(ids)), np.zeros(len(ids))
    place = np.minimum(np.searchsorted(rows["interface"], ids), len(rows) - 1)
    known = rows["interface"][place] == ids
    return np.where(known, rows["in"][place], 0.0), np.where(known, rows["out"][place], 0.0)


def last_used(ids: Sequence[int]) -> dict[int, datetime]:
    """The last day (UTC) on which each of these interfaces carried anything, as far as days are kept."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT interface_id, max(at) FROM readings_day WHERE interface_id = ANY(%s)"
            " AND in_octets + out_octets + bridged_in_octets + bridged_out_octets > 0 GROUP BY 1",
            [list(ids)],
        )
        return dict(cursor.fetchall())
