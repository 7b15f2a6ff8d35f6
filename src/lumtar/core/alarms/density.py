"""How many alarms stood when: the picture in the time strip."""

from dataclasses import dataclass

import numpy as np

from lumtar.core.alarms.severity import Severity


@dataclass(frozen=True, slots=True)
class Stand:
    """An alarm stood from ``start`` to ``end`` (seconds of the epoch; half-open) at a severity."""

    start: float
    end: float
    severity: Severity


def stands(changes: list[tuple[int, float, int]], end: float) -> list[Stand]:
    """Stands from status changes (alarm, time, severity) in order of alarm and time; what is open stands to ``end``."""
    standing = []
    for number, (alarm, at, severity) in enumerate(changes):
        if severity == Severity.CLEARED:
            continue
        following = changes[number + 1] if number + 1 < len(changes) else None
        until = following[1] if following and following[0] == alarm else end
        standing.append(Stand(at, until, Severity(severity)))
    return standing


@dataclass(frozen=True, slots=True)
class Bucket:
    """How many alarms stood at some time within a bucket, and the worst of them."""

    count: int
    worst: Severity


def density(standing: list[Stand], start: float, end: float, buckets: int) -> list[Bucket]:
    """Buckets of equal length from start to end."""
    counts = np.zeros(buckets, np.int64)
    worst = np.zeros(buckets, np.int64)
    width = (end - start) / buckets
    for stand in standing:
        first = max(0, int((stand.start - start) // width))
        last = min(buckets - 1, int(np.ceil((stand.end - start) / width)) - 1)
        if stand.end > start and stand.start < end and last >= first:
            counts[first : last + 1] += 1
            worst[first : last + 1] = np.maximum(worst[first : last + 1], int(stand.severity))
    return [Bucket(int(count), Severity(int(level))) for count, level in zip(counts, worst, strict=True)]
