"""Paths as rules look at them: the last minute of each."""

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from lumtar.core.measures.paths import Paths
from lumtar.domain.inventory.asking import subjects_for
from lumtar.domain.paths import store

SETTLED = timedelta(seconds=15)
"""So long after its end a minute is stored."""
MINUTE = timedelta(minutes=1)


def last_minute(now: datetime) -> datetime:
    """The begin of the last minute that is stored."""
    return datetime.fromtimestamp((now - SETTLED).timestamp() // 60 * 60, UTC) - MINUTE


def paths_now(now: datetime, active: Iterable[int]) -> tuple[NDArray[np.int64], Paths]:
    """All paths that are probed, over the last minute; those that nothing is stored of have no values."""
    paths = np.array(sorted(subjects_for("path", "") | set(active)), np.int64)
    start = last_minute(now)
    rows = store.read(paths.tolist(), start, start + MINUTE)
    made = np.zeros(len(paths), store.ROW)
    for name in store.FLOATS:
        made[name] = np.nan
    made[np.searchsorted(paths, rows["path"])] = rows
    return paths, frame_of(made)


def frame_of(rows: store.Rows) -> Paths:
    """Rows as measures see them."""
    return Paths(
        **{name: rows[name] for name in ("sent", "lost", "mean", "p95", "variation", "jitter", "longest_burst")}
    )
