"""Levels of keeping: readings as they were polled, and their sums over five minutes, an hour and a day.

A time range is (start, end]: a reading and a sum belong to the range that their end lies in. Times are seconds of the epoch.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from math import ceil, floor, inf


class Level(StrEnum):
    """What a row sums up."""

    READINGS = "readings"
    FIVE_MINUTES = "five minutes"
    HOURS = "hours"
    DAYS = "days"


SECONDS = {Level.READINGS: 0, Level.FIVE_MINUTES: 300, Level.HOURS: 3600, Level.DAYS: 86400}
"""The length of a level's sums; a reading is as long as its poll was apart from the one before."""

STEPS = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 21600, 43200, 86400, 7 * 86400)
"""Lengths that the steps of a chart can have, in seconds."""


@dataclass(frozen=True, slots=True)
class Kept:
    """A level's rows are there for (since, until]; what is newer has not been summed up yet."""

    level: Level
    since: float
    until: float = inf


@dataclass(frozen=True, slots=True)
class Piece:
    """A part of a range, and the level that it is read from."""

    level: Level
    start: float
    end: float


def step_for(span_s: float, points: int, least_s: float = 0.0) -> int:
    """The finest step that shows a span in at most so many points, and is no shorter than ``least_s``."""
    wanted = max(span_s / max(1, points), least_s)
    return next((step for step in STEPS if step >= wanted), STEPS[-1])


def cover(start: float, end: float, step_s: float, kept: Sequence[Kept]) -> list[Piece]:
    """The fewest rows that hold what was counted in a range.

    The coarsest level whose sums are no longer than a step is taken, and finer ones at the edges of the range and for
    what has not been summed up yet. Where the finer level is not kept any more an edge is rounded outwards to a whole sum.

    Parameters
    ----------
    start, end : the range (start, end]
    step_s : what the range is shown in, seconds
    kept : finest first; finer levels are kept for a shorter time

    Returns
    -------
    pieces in the order of time, one behind the other; together they hold the range
    """
    at_start = [place for place, each in enumerate(kept) if each.since <= start]
    finest = at_start[0] if at_start else len(kept) - 1
    coarsest = max((place for place, each in enumerate(kept) if SECONDS[each.level] <= step_s), default=0)
    return _cover(start, end, max(finest, coarsest), kept)


def _cover(start: float, end: float, place: int, kept: Sequence[Kept]) -> list[Piece]:
    if start >= end:
        return []
    level, length = kept[place].level, SECONDS[kept[place].level]
    if not length:
        return [Piece(level, start, end)]
    finer = kept[place - 1] if place else None

    def is_finer_kept(moment: float) -> bool:
        return finer is not None and finer.since <= moment

    until: float = floor(kept[place].until / length) * length if kept[place].until < inf else inf
    first = ceil(start / length) * length
    if not is_finer_kept(start):
        first = floor(start / length) * length
    last: float = floor(end / length) * length
    if last < end <= until and not is_finer_kept(last):
        last = ceil(end / length) * length
    last = min(last, until)
    if first >= last:
        return _cover(start, end, place - 1, kept) if is_finer_kept(start) else []
    head = _cover(start, first, place - 1, kept) if first > start else []
    tail = _cover(last, end, place - 1, kept) if last < end and is_finer_kept(last) else []
    return [*head, Piece(level, first, last), *tail]
