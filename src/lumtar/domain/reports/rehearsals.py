"""Rehearsals: what a rule would have done over stored history, before it is kept."""

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from functools import partial

import numpy as np
from django.db import connections
from numpy.typing import NDArray

from lumtar.core.measures.links import BRIDGE, LINK
from lumtar.core.measures.paths import PATH
from lumtar.core.measures.traffic import FLOW_PORT, STRANGER, TRAFFIC
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Direction, Figures, Level, Raised, Rule, compared, figures, rehearse
from lumtar.core.rules.baseline import weeks_for
from lumtar.core.rules.rehearsal import Normals
from lumtar.domain.inventory.asking import subjects_for
from lumtar.domain.inventory.models import Component, Device, Interface
from lumtar.domain.reports import frames
from lumtar.domain.reports.frames import History

Learn = Callable[[Rule, Sequence[int], datetime, datetime], Normals]
"""What was known to be normal for some subjects during a time."""
OwnLevels = Mapping[int, Sequence[Level]]
"""Subjects with levels of their own; without any they are exempt."""
WITHIN_VALUES = ("value", "mean", "maximum", "minimum", "percentile95")
"""Statistics that are never above the highest of their values."""
AT_ONCE = 1000
"""Subjects that are gone through together; more would only need more memory."""
LONGEST_DAYS = 31
MOST_DAYS = 150_000
"""Days that all subjects together may have: about half a minute of work."""


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """What a rule would have done. ``step_s`` is 0 if it went from reading to reading."""

    start: datetime
    end: datetime
    subjects: int
    step_s: int
    took_ms: float
    alarms: list[Raised]
    figures: Figures


def subjects_of(kind: str, scope: str = "") -> list[int]:
    """The subjects of a kind that are in use, or those of them for which a condition holds.

    Raises
    ------
    ConditionError
    """
    if scope:
        return sorted(subjects_for(kind, scope))
    if kind in ("interface", LINK):
        ports = Interface.objects.filter(gone_at=None, device__retired_at=None, device__enabled=True)
        return list(ports.order_by("pk").values_list("pk", flat=True))
    if kind in ("device", BRIDGE):
        return list(Device.objects.filter(retired_at=None, enabled=True).order_by("pk").values_list("pk", flat=True))
    if kind in ("group", TRAFFIC, PATH, FLOW_PORT, STRANGER):
        return sorted(subjects_for(kind, ""))
    components = Component.objects.filter(gone_at=None, device__retired_at=None, device__enabled=True)
    return list(components.order_by("pk").values_list("pk", flat=True))


@dataclass(frozen=True, slots=True)
class Progress:
    """How many of the subjects were gone through already."""

    done: int
    subjects: int


def run(
    rule: Rule,
    subjects: Sequence[int],
    start: datetime,
    end: datetime,
    normals: Learn | None = None,
    own: OwnLevels | None = None,
) -> Rehearsal:
    """Go through stored history with a rule: what :func:`steps` comes to.

    Raises
    ------
    Refusal
    """
    *_, done = steps(rule, subjects, start, end, normals, own)
    assert isinstance(done, Rehearsal)
    return done


def steps(
    rule: Rule,
    subjects: Sequence[int],
    start: datetime,
    end: datetime,
    normals: Learn | None = None,
    own: OwnLevels | None = None,
) -> Iterator[Progress | Rehearsal]:
    """Go through stored history with a rule, and say now and then how far that is; the rehearsal comes last.

    Parameters
    ----------
    normals : what was known to be normal, for a rule with a reference
    own : the levels of subjects that have some of their own; without any they are exempt

    Raises
    ------
    Refusal
        if the time is longer than a month, or none, or everything together is too much
    """
    _check(rule, len(subjects), (end - start).total_seconds())
    return _go_through(rule, list(_parts(rule, subjects, own or {})), len(subjects), (start, end), normals)


def _go_through(
    rule: Rule,
    parts: Sequence[tuple[Rule, Sequence[int]]],
    subjects: int,
    span: tuple[datetime, datetime],
    normals: Learn | None,
) -> Iterator[Progress | Rehearsal]:
    (start, end), began, step_s, done = span, time.perf_counter(), 0, 0
    alarms: list[Raised] = []
    reads = [partial(_read, watched, some, start, end) for watched, some in parts]
    histories = _ahead(reads) if subjects > AT_ONCE else (read() for read in reads)
    for (watched, some), history in zip(parts, histories, strict=True):
        known = _known(watched, history.subjects, start, end, normals)
        alarms += rehearse(watched, history.frame, history.subjects, known)
        step_s, done = history.step_s, done + len(some)
        yield Progress(done, subjects)
    alarms.sort(key=lambda alarm: (alarm.raised_at, alarm.subject))
    took_ms = 1000 * (time.perf_counter() - began)
    counted = figures(alarms, start.timestamp(), end.timestamp())
    yield Rehearsal(start, end, subjects, step_s, round(took_ms, 1), alarms, counted)


def _read(rule: Rule, subjects: Sequence[int], start: datetime, end: datetime) -> History:
    """The history of those subjects that can have exceeded a limit: nearly all of a large network cannot."""
    if rule.direction is Direction.ABOVE and rule.statistic in WITHIN_VALUES and not rule.reference:
        subjects = frames.reaching(rule.measure, rule.levels[0].limit, subjects, start, end)
    return frames.of_measure(rule.measure, subjects, start, end)


def _check(rule: Rule, subjects: int, seconds: float) -> None:
    if not 0 < seconds <= LONGEST_DAYS * 86_400:
        raise Refusal(f"A rehearsal goes over at most {LONGEST_DAYS} days.", "days")
    days = seconds / 86_400
    looked_back = 7 * weeks_for(rule.reference) if rule.reference else 0
    if subjects * (days + looked_back) > MOST_DAYS:
        raise Refusal(_too_much(subjects, days, looked_back), "days")


def _parts(rule: Rule, subjects: Sequence[int], own: OwnLevels) -> Iterator[tuple[Rule, Sequence[int]]]:
    """A rule as it is for some of its subjects at a time; those that are exempt are left out."""
    rest = [subject for subject in subjects if subject not in own]
    for first in range(0, len(rest), AT_ONCE):
        yield rule, rest[first : first + AT_ONCE]
    alike: dict[tuple[Level, ...], list[int]] = {}
    for subject in subjects:
        if levels := own.get(subject):
            alike.setdefault(tuple(levels), []).append(subject)
    for levels, some in alike.items():
        yield replace(rule, levels=levels), some


def _ahead(reads: Sequence[Callable[[], History]]) -> Iterator[History]:
    """What each of them reads; the next one reads while one is gone through."""
    with ThreadPoolExecutor(1) as reader:
        try:
            # In this context, so that the reader's connection asks for the same person.
            context = copy_context()
            waiting = [reader.submit(context.run, reads[0])]
            for read in [*reads[1:], None]:
                history = waiting.pop().result()
                if read is not None:
                    waiting.append(reader.submit(context.run, read))
                yield history
        finally:
            reader.submit(connections.close_all)


def _known(rule: Rule, subjects: Sequence[int], start: datetime, end: datetime, normals: Learn | None) -> Normals:
    return normals(rule, subjects, start, end) if rule.reference and normals else ()


def _too_much(subjects: int, days: float, looked_back: int) -> str:
    learned = f", and {looked_back} more to learn from" if looked_back else ""
    most = int(MOST_DAYS / subjects) - looked_back
    then = f"choose {'one day' if most == 1 else f'at most {most} days'}" if most >= 1 else ""
    return (
        f"This would go through {subjects:,} subjects over {days:.0f} days{learned}; "
        + ", or ".join(["narrow the rule by a condition", *([then] if then else [])])
        + "."
    )


@dataclass(frozen=True, slots=True)
class Band:
    """What was normal at the times of a line, and between which values each level would have been left."""

    usual: list[float | None]
    severity: list[int]
    low: list[list[float | None]]
    high: list[list[float | None]]


@dataclass(frozen=True, slots=True)
class Line:
    """What a rule looks at of one subject, by seconds of the epoch, and the alarms that follow; ``band`` if it has a reference."""

    at: list[float]
    value: list[float | None]
    alarms: list[Raised]
    band: Band | None


def line_of(
    rule: Rule,
    subject: int,
    start: datetime,
    end: datetime,
    normals: Learn | None = None,
    own: OwnLevels | None = None,
) -> Line:
    """One subject of a rehearsal as a line over time, with the levels that it has of its own."""
    levels = (own or {}).get(subject)
    if levels:
        rule = replace(rule, levels=tuple(levels))
    history = frames.of_measure(rule.measure, [subject], start, end)
    frame, ranges = history.frame, _known(rule, [subject], start, end, normals)
    known = frame.at[:, 0] > 0
    at = frame.at[known, 0]
    alarms = [] if levels == [] else rehearse(rule, frame, history.subjects, ranges)
    return Line(at.tolist(), _listed(compared(rule, frame)[known, 0]), alarms, _band(rule, at, ranges))


def _listed(values: NDArray[np.float64]) -> list[float | None]:
    return [None if np.isnan(value) else round(float(value), 4) for value in values]


def _band(rule: Rule, at: NDArray[np.float64], ranges: Normals) -> Band | None:
    if not rule.reference or not ranges:
        return None
    usual, scale = np.full(len(at), np.nan), np.full(len(at), np.nan)
    for start, normal in ranges:
        later = at >= start
        usual[later], scale[later] = normal.at(np.zeros(int(later.sum()), np.int64), at[later])
    low, high = [], []
    for level in rule.levels:
        upper = level.limit if rule.direction is not Direction.BELOW else np.nan
        lower = level.limit if rule.direction is Direction.BELOW else (np.nan if level.low is None else level.low)
        low.append(_listed(usual + lower * scale))
        high.append(_listed(usual + upper * scale))
    return Band(_listed(usual), [int(level.severity) for level in rule.levels], low, high)


def newest(measure: str, subject: int, now: datetime) -> float | None:
    """The newest value of one subject within an hour; None if nothing was measured."""
    frame = frames.of_measure(measure, [subject], now - timedelta(hours=1), now).frame
    values = frame.values[measure][:, 0][~np.isnan(frame.values[measure][:, 0])] if frame.at.shape[1] else np.zeros(0)
    return round(float(values[-1]), 4) if len(values) else None
