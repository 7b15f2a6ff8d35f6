"""Whether paths keep what is promised: of each hour, how many of its minutes do."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import fields
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection, transaction
from numpy.typing import NDArray

from lumtar.core.measures.paths import Paths
from lumtar.core.paths.promises import TARGETS, Promise
from lumtar.domain.operation.partitioned import Partitioned
from lumtar.domain.paths import classes, store
from lumtar.domain.paths.models import Path
from lumtar.domain.readings import bulk

JUDGED = Partitioned("paths_judged", timedelta(days=30), timedelta(days=800))
MISSED = {name: f"{name.removeprefix('path_').removesuffix('_95')}_missed" for name in TARGETS}
"""By target the column that says how many minutes missed it."""
COUNTS = ("judged", "missed", "available", "excluded", *MISSED.values())
ROW = np.dtype(
    [("path_id", "i8"), ("at", "f8"), ("service_class_id", "i8"), ("share", "f8"), *((name, "i2") for name in COUNTS)]
)
HOUR = timedelta(hours=1)
Rows = NDArray[np.void]
Promised = Mapping[int, tuple[int, Promise]]
"""By path its service class and what is promised."""
Spans = Mapping[int, Sequence[tuple[float, float]]]
"""By path, times that are left out: agreed maintenance, seconds of the epoch."""


def plain_frame(rows: store.Rows) -> Paths:
    """Intervals as measures see them, without what is promised of their paths."""
    nothing = np.full(len(rows), np.nan)
    names = {each.name for each in fields(Paths)} - {"missed", "allowed"}
    return Paths(**{name: rows[name] for name in names}, missed=nothing, allowed=nothing.copy())


def frame_of(rows: store.Rows, promised: Promised | None = None) -> Paths:
    """Intervals as measures see them, with whether what is promised of their paths is kept."""
    frame = plain_frame(rows)
    for _, promise, mine in by_promise(rows, classes.by_path() if promised is None else promised):
        part = plain_frame(rows[mine])
        is_judged = (part.sent > 0) & promise.holds_at(rows["at"][mine])
        frame.missed[mine] = np.where(is_judged, np.any(list(promise.missed(part).values()), axis=0), np.nan)
        frame.allowed[mine] = promise.allowed
    return frame


def by_promise(rows: store.Rows, promised: Promised) -> Iterable[tuple[int, Promise, NDArray[np.int64]]]:
    """Of each service class its number, the promise, and which rows are of its paths."""
    paths, which = np.unique(rows["path"], return_inverse=True)
    numbers = np.array([promised[path][0] if path in promised else -1 for path in paths.tolist()], np.int64)
    promises = dict(promised.values())
    for number in np.unique(numbers[numbers >= 0]).tolist():
        yield number, promises[number], np.flatnonzero(numbers[which] == number)


def missed_targets(rows: store.Rows, promised: Promised) -> list[list[str]]:
    """Of each interval the targets that it misses."""
    found: list[list[str]] = [[] for _ in rows]
    for _, promise, mine in by_promise(rows, promised):
        for name, is_missed in promise.missed(plain_frame(rows[mine])).items():
            for place in mine[is_missed].tolist():
                found[place].append(name)
    return found


def judged(rows: store.Rows, promised: Promised, out: Spans, minutes: int = 1) -> Rows:
    """Hours of paths, from intervals of so many minutes each.

    Parameters
    ----------
    out : intervals that begin within these are not judged
    """
    made = []
    for number, promise, mine in by_promise(rows, promised):
        part = rows[mine]
        frame, is_out = plain_frame(part), _is_out(part, out)
        by_target = promise.missed(frame)
        counts = (frame.sent > 0) & promise.holds_at(part["at"])
        is_judged = counts & ~is_out
        told = {
            "judged": is_judged, "missed": is_judged & np.any(list(by_target.values()), axis=0), "excluded": counts & is_out,
            "available": is_judged & (frame.sent > frame.lost + frame.wrong),
            **{MISSED[name]: is_judged & is_missed for name, is_missed in by_target.items()},
        }  # fmt: skip
        hours = (part["at"] // 3600).astype("i8")
        keys, which = np.unique(np.stack((part["path"], hours), axis=1), axis=0, return_inverse=True)
        found = np.zeros(len(keys), ROW)
        found["path_id"], found["at"] = keys[:, 0], keys[:, 1] * 3600.0
        found["service_class_id"], found["share"] = number, promise.share
        for name, flags in told.items():
            found[name] = minutes * np.bincount(which.ravel(), flags, len(keys)).astype("i8")
        made.append(found)
    return np.concatenate(made) if made else np.zeros(0, ROW)


def _is_out(rows: store.Rows, out: Spans) -> NDArray[np.bool_]:
    """Which intervals, in the order of their paths, lie in times that are left out."""
    found = np.zeros(len(rows), bool)
    for path, spans in out.items():
        mine = slice(*np.searchsorted(rows["path"], [path, path + 1]).tolist())
        for start, end in spans:
            found[mine] |= (rows["at"][mine] >= start) & (rows["at"][mine] < end)
    return found


def append(rows: Rows) -> None:
    """Append judged hours."""
    if len(rows):
        columns: list[bulk.Column] = [("path_id", "i8", rows["path_id"]), ("at", "at", rows["at"])]
        columns += [("service_class_id", "i8", rows["service_class_id"]), ("share", "f8", rows["share"])]
        bulk.copy(JUDGED.name, [*columns, *((name, "i2", rows[name]) for name in COUNTS)])


@transaction.atomic
def judge_hour(start: datetime, out: Spans) -> int:
    """Judge the minutes of an hour, anew, by what is promised now. Returns how many paths were."""
    promised = classes.by_path()
    rows = judged(store.read(promised, start, start + HOUR), promised, out)
    if len(rows):
        JUDGED.ensure(start, start)
    with connection.cursor() as cursor:
        cursor.execute(f"DELETE FROM {JUDGED} WHERE at = %s", [start])
    append(rows)
    return len(rows)


def sums(start: datetime, end: datetime, zone: str) -> list[dict[str, Any]]:
    """By path, class, promised share and day on the clock of a zone the minutes of a time."""
    with connection.cursor() as cursor:
        cursor.execute(
            f"""SELECT path_id, service_class_id, share, (at AT TIME ZONE %(zone)s)::date AS day,
                {", ".join(f"sum({name})::bigint AS {name}" for name in COUNTS)}
            FROM {JUDGED} WHERE at >= %(start)s AND at < %(end)s GROUP BY 1, 2, 3, 4""",
            {"start": start, "end": end, "zone": zone},
        )
        names = [column[0] for column in cursor.description]
        return [dict(zip(names, row, strict=True)) for row in cursor.fetchall()]


def in_maintenance(spans_of: Iterable[tuple[Iterable[int], Iterable[str], datetime, datetime]]) -> Spans:
    """By path when it is in maintenance, from which sites and which addresses of devices are, and when."""
    found: dict[int, list[tuple[float, float]]] = {}
    ends = list(Path.objects.values_list("pk", "from_site_id", "to_site_id", "address"))
    for sites, addresses, start, end in spans_of:
        wanted, whom = set(sites), set(addresses)
        for path, home, goal, address in ends:
            if home in wanted or goal in wanted or address in whom:
                found.setdefault(path, []).append((start.timestamp(), end.timestamp()))
    return found
