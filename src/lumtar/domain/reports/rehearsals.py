"""Rehearsals: what a rule would have done over stored history, before it is kept."""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from lumtar.core.refusal import Refusal
from lumtar.core.rules import Direction, Figures, Raised, Rule, compared, figures, rehearse
from lumtar.core.rules.baseline import weeks_for
from lumtar.core.rules.rehearsal import Normals
from lumtar.domain.inventory.asking import subjects_for
from lumtar.domain.inventory.models import Component, Device, Group, Interface
from lumtar.domain.reports import frames

Learn = Callable[[Rule, Sequence[int], datetime, datetime], Normals]
"""What was known to be normal for some subjects during a time."""
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
    if kind == "interface":
        ports = Interface.objects.filter(gone_at=None, device__retired_at=None, device__enabled=True)
        return list(ports.order_by("pk").values_list("pk", flat=True))
    if kind == "device":
        return list(Device.objects.filter(retired_at=None, enabled=True).order_by("pk").values_list("pk", flat=True))
    if kind == "group":
        return list(Group.objects.order_by("pk").values_list("pk", flat=True))
    components = Component.objects.filter(gone_at=None, device__retired_at=None, device__enabled=True)
    return list(components.order_by("pk").values_list("pk", flat=True))


def run(rule: Rule, subjects: Sequence[int], start: datetime, end: datetime, normals: Learn | None = None) -> Rehearsal:
    """Go through stored history with a rule.

    Parameters
    ----------
    normals : what was known to be normal, for a rule with a reference

    Raises
    ------
    Refusal
        if the time is longer than a month, or none
    """
    seconds = (end - start).total_seconds()
    if not 0 < seconds <= LONGEST_DAYS * 86_400:
        raise Refusal(f"A rehearsal goes over at most {LONGEST_DAYS} days.", "days")
    days = seconds / 86_400
    looked_back = 7 * weeks_for(rule.reference) if rule.reference else 0
    if len(subjects) * (days + looked_back) > MOST_DAYS:
        raise Refusal(_too_much(len(subjects), days, looked_back), "days")
    began, step_s = time.perf_counter(), 0
    alarms: list[Raised] = []
    for first in range(0, len(subjects), AT_ONCE):
        history = frames.of_measure(rule.measure, subjects[first : first + AT_ONCE], start, end)
        alarms += rehearse(rule, history.frame, history.subjects, _known(rule, history.subjects, start, end, normals))
        step_s = history.step_s
    alarms.sort(key=lambda alarm: (alarm.raised_at, alarm.subject))
    took_ms = 1000 * (time.perf_counter() - began)
    counted = figures(alarms, start.timestamp(), end.timestamp())
    return Rehearsal(start, end, len(subjects), step_s, round(took_ms, 1), alarms, counted)


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


def line_of(rule: Rule, subject: int, start: datetime, end: datetime, normals: Learn | None = None) -> Line:
    """One subject of a rehearsal as a line over time."""
    history = frames.of_measure(rule.measure, [subject], start, end)
    frame, ranges = history.frame, _known(rule, [subject], start, end, normals)
    known = frame.at[:, 0] > 0
    at = frame.at[known, 0]
    alarms = rehearse(rule, frame, history.subjects, ranges)
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
