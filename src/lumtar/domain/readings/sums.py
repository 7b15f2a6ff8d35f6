"""What was counted in a time, read from the coarsest level that shows it."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
from django.utils import timezone
from numpy.typing import NDArray

from lumtar.core import percentiles, single_reading
from lumtar.core.levels import SECONDS, Kept, Level, Piece, cover
from lumtar.domain.readings import bulk, retention
from lumtar.domain.readings.rollups import COLUMNS, HIGHEST, LOWEST, summed

TABLES = {
    Level.READINGS: "readings_reading",
    Level.FIVE_MINUTES: "readings_fiveminutes",
    Level.HOURS: "readings_hour",
    Level.DAYS: "readings_day",
}
RATES = (*LOWEST, *HIGHEST)
EXACT = (*(f"{also}{way}_octets" for also in ("", "bridged_") for way in ("in", "out")), *RATES, "flags")
"""What a step is summed up of as it is. Packets, errors and milliseconds of a week stay far below 2**53 on any line, so that
sums in double precision, which cost half, are exact as well."""
MEANS = ("elapsed_ms", "in_octets", "out_octets")
"""What mean rates are made from."""

Rows = NDArray[np.void]
"""Rows of readings or sums: ``interface``, ``at`` (the end, in seconds of the epoch) and COLUMNS of rollups.py."""
EIGHTHS_BITS = 35
"""Bits that eighths of a second since the epoch take, until the year 2106."""
STORED = {"elapsed_ms": "i4", "flags": "i2", "oper": "i2"}
"""Numpy types of a reading's columns that are not bigint."""


@dataclass(frozen=True, slots=True)
class Sums:
    """Rows in the order of interface and time, and where they were read."""

    rows: Rows
    pieces: list[Piece]

    @property
    def coarsest(self) -> Level:
        """The level that most of the time was read from."""
        longest = max(self.pieces, key=lambda piece: piece.end - piece.start, default=None)
        return longest.level if longest else Level.READINGS


def _moment(seconds: float) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)


def pieces_of(
    start: datetime, end: datetime, step_s: float, finest: Level = Level.READINGS, kept: Sequence[Kept] = ()
) -> list[Piece]:
    """The levels that a range is read from; with ``finest`` its edges are rounded outwards to sums of that level.

    Parameters
    ----------
    kept : what is there of each level, if that is known already
    """
    there = kept or retention.kept(timezone.now())
    there = there[[each.level for each in there].index(finest) :]
    return cover(start.timestamp(), end.timestamp(), max(step_s, SECONDS[finest]), there)


def _select(piece: Piece, place: int, names: Sequence[str], step_s: float, values: dict[str, Any]) -> str:
    """The sums of one piece of the range; where several of them make a step, the database adds them up."""
    values[f"start{place}"], values[f"end{place}"] = _moment(piece.start), _moment(piece.end)
    length, source = SECONDS[piece.level], TABLES[piece.level]
    where = f"{bulk.AMONG} AND at >= %(start{place})s AND at < %(end{place})s"
    if step_s >= 2 * length and step_s % length == 0:
        sums = ", ".join(f"{summed(name, name if name in EXACT else f'{name}::float8')} AS {name}" for name in names)
        begins = f"date_bin('{int(step_s)} s', at, '1970-01-01T00:00:00Z')"
        source = f"(SELECT interface_id, {begins} AS at, {sums} FROM {source} WHERE {where} GROUP BY 1, 2) steps"
        length, where = int(step_s), "true"
    columns = ", ".join(f"coalesce({name}, 'NaN')::float8" if name in RATES else f"{name}::bigint" for name in names)
    return f"SELECT interface_id, date_part('epoch', at) + {length}, {columns} FROM {source} WHERE {where}"


def kinds_of(names: Sequence[str]) -> list[tuple[str, str]]:
    """Names and numpy types of rows that hold these columns."""
    return [("interface", "i8"), ("at", "f8"), *((name, "f8" if name in RATES else "i8") for name in names)]


def _sums(interfaces: Sequence[int], pieces: Sequence[Piece], step_s: float, names: Sequence[str]) -> Rows:
    values: dict[str, Any] = {"only": list(interfaces)}
    sql = " UNION ALL ".join(_select(piece, place, names, step_s, values) for place, piece in enumerate(pieces))
    return bulk.fetch(sql, values, kinds_of(names))


def _readings(interfaces: Sequence[int], pieces: Sequence[Piece], names: Sequence[str]) -> Rows:
    """Readings, each in the form of a row of sums: what follows from others costs less here than in the database."""
    stored = single_reading.wanted(names)
    values: dict[str, Any] = {"only": list(interfaces)}
    parts = []
    for place, piece in enumerate(pieces):
        values[f"start{place}"], values[f"end{place}"] = _moment(piece.start), _moment(piece.end)
        parts.append(
            f"SELECT interface_id, date_part('epoch', at), {', '.join(stored)} FROM {TABLES[Level.READINGS]}"
            f" WHERE {bulk.AMONG} AND at > %(start{place})s AND at <= %(end{place})s"
        )
    kinds = [("interface", "i8"), ("at", "f8"), *((name, STORED.get(name, "i8")) for name in stored)]
    readings = bulk.fetch(" UNION ALL ".join(parts), values, kinds)
    rows = np.empty(len(readings), kinds_of(names))
    for name in ("interface", "at", *names):
        rows[name] = single_reading.column(readings, name)
    return rows


def read(
    interfaces: Sequence[int],
    start: datetime,
    end: datetime,
    step_s: float,
    names: Sequence[str] = COLUMNS,
    kept: Sequence[Kept] = (),
) -> Sums:
    """What some interfaces counted from start to end, to be shown in steps of ``step_s`` seconds.

    Parameters
    ----------
    step_s : steps begin at multiples of it since the epoch
    names : the columns that are wanted; the others are left out
    kept : what is there of each level, if that is known already

    Returns
    -------
    rows that lie within one step each, none longer than the step unless what was counted is
    """
    pieces = pieces_of(start, end, step_s, kept=kept)
    fine = [piece for piece in pieces if piece.level == Level.READINGS]
    coarse = [piece for piece in pieces if piece.level != Level.READINGS]
    parts = [np.empty(0, kinds_of(names))]
    parts += [_readings(interfaces, fine, names)] if fine else []
    parts += [_sums(interfaces, coarse, step_s, names)] if coarse else []
    rows = np.concatenate(parts)
    # One key of both is sorted in a third of the time; no interface has two readings within an eighth of a second.
    place = np.argsort((rows["interface"] << EIGHTHS_BITS) + (rows["at"] * 8).astype(np.int64), kind="stable")
    return Sums(rows[place], pieces)


def five_minute_means(
    interfaces: Sequence[int], start: datetime, end: datetime, kept: Sequence[Kept] = ()
) -> tuple[float, NDArray[np.float64], NDArray[np.float64]]:
    """The five-minute means of some interfaces, from readings or sums where these are kept, else as days keep them.

    Returns
    -------
    start : the beginning of the first slot, seconds of the epoch
    inward, outward : (interfaces, slots) bits per second, NaN where nothing was measured
    """
    first = float(np.floor(start.timestamp() / 300) * 300)
    slots = max(1, int(np.ceil((end.timestamp() - first) / 300)))
    shape = (len(interfaces), slots)
    means = {"in": np.full(shape, np.nan), "out": np.full(shape, np.nan)}
    place_of = {interface: place for place, interface in enumerate(interfaces)}
    kept = kept or retention.kept(timezone.now())
    exact = all(piece.level in (Level.READINGS, Level.FIVE_MINUTES) for piece in pieces_of(start, end, 300, kept=kept))
    days = [] if exact else [piece for piece in pieces_of(start, end, 86400, kept=kept) if piece.level == Level.DAYS]
    fine = [(start.timestamp(), end.timestamp())]
    if days:
        began, ended = days[0].start, days[-1].end
        fine = [(start.timestamp(), began), (ended, end.timestamp())]
        _means_of_days(interfaces, began, ended, first, place_of, means)
    for since, until in fine:
        if since < until:
            rows = read(list(interfaces), _moment(since), _moment(until), 300, MEANS, kept).rows
            _means_of_sums(rows, first, place_of, means)
    return first, means["in"], means["out"]


def _means_of_sums(rows: Rows, first: float, place_of: dict[int, int], into: dict[str, NDArray[np.float64]]) -> None:
    for interface, mine in bulk.groups(rows, "interface"):
        for way, means in into.items():
            line = means[place_of[interface]]
            line_means = percentiles.means(mine["at"], mine["elapsed_ms"], mine[f"{way}_octets"], first, len(line))
            np.copyto(line, line_means, where=~np.isnan(line_means))


def _means_of_days(
    interfaces: Sequence[int], began: float, ended: float, first: float, place_of: dict[int, int],
    into: dict[str, NDArray[np.float64]],
) -> None:  # fmt: skip
    rows = means_of_days(interfaces, _moment(began), _moment(ended))
    slots = np.rint((rows["at"] - first) / 300).astype(np.int64).tolist()
    for way, means in into.items():
        days = percentiles.decode(rows[way])
        for interface, slot, day in zip(rows["interface"].tolist(), slots, days, strict=True):
            begins = max(0, slot)
            here = means[place_of[interface], begins : slot + percentiles.SLOTS]
            here[:] = day[begins - slot :][: len(here)]


def means_of_days(interfaces: Sequence[int], start: datetime, end: datetime) -> Rows:
    """What days keep of their five-minute means: ``interface``, ``at`` (the beginning), ``in`` and ``out`` as they are kept."""
    sql = f"""SELECT interface_id, date_part('epoch', at), in_means, out_means FROM readings_day
        WHERE {bulk.AMONG} AND at >= %(start)s AND at < %(end)s AND in_means IS NOT NULL"""
    codes = f"({percentiles.SLOTS},)<u2"
    kinds = [("interface", "i8"), ("at", "f8"), ("in", codes), ("out", codes)]
    return bulk.fetch(sql, {"only": list(interfaces), "start": start, "end": end}, kinds)
