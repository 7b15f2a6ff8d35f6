"""Rehearsals: what a rule would have done over stored history, before it is kept."""

import time
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from lumtar.core.refusal import Refusal
from lumtar.core.rules import Figures, Raised, Rule, compared, figures, rehearse
from lumtar.domain.inventory.groups import ports_for
from lumtar.domain.inventory.models import Component, Device, Interface
from lumtar.domain.reports import frames

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
    if kind == "interface":
        if scope:
            return sorted(ports_for(scope))
        ports = Interface.objects.filter(gone_at=None, device__retired_at=None, device__enabled=True)
        return list(ports.order_by("pk").values_list("pk", flat=True))
    if kind == "device":
        return list(Device.objects.filter(retired_at=None, enabled=True).order_by("pk").values_list("pk", flat=True))
    components = Component.objects.filter(gone_at=None, device__retired_at=None, device__enabled=True)
    return list(components.order_by("pk").values_list("pk", flat=True))


def run(rule: Rule, subjects: Sequence[int], start: datetime, end: datetime) -> Rehearsal:
    """Go through stored history with a rule.

    Raises
    ------
    Refusal
        if the time is longer than a month, or none
    """
    seconds = (end - start).total_seconds()
    if not 0 < seconds <= LONGEST_DAYS * 86_400:
        raise Refusal(f"A rehearsal goes over at most {LONGEST_DAYS} days.", "days")
    if len(subjects) * seconds / 86_400 > MOST_DAYS:
        most = max(1, int(MOST_DAYS / len(subjects)))
        raise Refusal(
            f"This would go through {len(subjects):,} subjects over {seconds / 86_400:.0f} days;"
            f" narrow the rule by a condition, or choose {'one day' if most == 1 else f'at most {most} days'}.",
            "days",
        )
    began, step_s = time.perf_counter(), 0
    alarms: list[Raised] = []
    for first in range(0, len(subjects), AT_ONCE):
        history = frames.of_measure(rule.measure, subjects[first : first + AT_ONCE], start, end)
        alarms += rehearse(rule, history.frame, history.subjects)
        step_s = history.step_s
    alarms.sort(key=lambda alarm: (alarm.raised_at, alarm.subject))
    took_ms = 1000 * (time.perf_counter() - began)
    counted = figures(alarms, start.timestamp(), end.timestamp())
    return Rehearsal(start, end, len(subjects), step_s, round(took_ms, 1), alarms, counted)


@dataclass(frozen=True, slots=True)
class Line:
    """What a rule compares with its limits at one subject, by seconds of the epoch, and the alarms that follow."""

    at: list[float]
    value: list[float | None]
    alarms: list[Raised]


def line_of(rule: Rule, subject: int, start: datetime, end: datetime) -> Line:
    """One subject of a rehearsal as a line over time."""
    history = frames.of_measure(rule.measure, [subject], start, end)
    frame = history.frame
    known = frame.at[:, 0] > 0
    values = [None if np.isnan(value) else round(float(value), 4) for value in compared(rule, frame)[known, 0]]
    return Line(frame.at[known, 0].tolist(), values, rehearse(rule, frame, history.subjects))
