"""Paths as rules look at them: the last minute of each."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from lumtar.core.measures import MEASURES
from lumtar.core.measures.paths import Paths
from lumtar.domain.inventory.asking import subjects_for
from lumtar.domain.paths import classes, store
from lumtar.domain.paths.judging import by_promise, frame_of, plain_frame

SETTLED = timedelta(seconds=15)
"""So long after its end a minute is stored."""
MINUTE = timedelta(minutes=1)


@dataclass(frozen=True, slots=True)
class Near:
    """A path and the target that it is nearest to: its value, the limit, and the share of it that is reached (1 is all of it)."""

    path: int
    measure: str
    value: float
    limit: float
    share: float


def nearest(now: datetime, most: int) -> list[Near]:
    """The paths that were nearest to missing what is promised in the last five minutes that are stored, the nearest first."""
    promised, end = classes.by_path(), last_minute(now) + MINUTE
    whole = store.joined(store.read(promised, end - 5 * MINUTE, end))
    found = []
    for _, promise, mine in by_promise(whole, promised):
        frame = plain_frame(whole[mine])
        names = list(promise.limits)
        shares = np.stack([promise.closeness(frame)[name] for name in names])
        values = np.stack([MEASURES[name].of(frame) for name in names])
        # What is not known is near to nothing.
        nearest_of = np.argmax(np.where(np.isnan(shares), -1.0, shares), axis=0)
        for place, target in enumerate(nearest_of.tolist()):
            share, name = float(shares[target, place]), names[target]
            if not np.isnan(share):
                path = int(whole["path"][mine[place]])
                found.append(Near(path, name, float(values[target, place]), promise.limits[name], share))
    return sorted(found, key=lambda each: (-each.share, each.path))[:most]


def last_minute(now: datetime) -> datetime:
    """The begin of the last minute that is stored."""
    return datetime.fromtimestamp((now - SETTLED).timestamp() // 60 * 60, UTC) - MINUTE


def paths_now(now: datetime, active: Iterable[int]) -> tuple[NDArray[np.int64], Paths]:
    """All paths that are probed, over the last minute; those that nothing is stored of have no values."""
    del active
    paths = np.array(sorted(subjects_for("path", "")), np.int64)
    start = last_minute(now)
    rows = store.read(paths.tolist(), start, start + MINUTE)
    made = np.zeros(len(paths), store.ROW)
    for name in store.FLOATS:
        made[name] = np.nan
    made["path"], made["at"] = paths, start.timestamp()
    made[np.searchsorted(paths, rows["path"])] = rows
    return paths, frame_of(made)
