"""What rules would have done: the evaluator over stored history, and the figures of it."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

from lumtar.core.rules.baseline import Baselines, Reference
from lumtar.core.rules.evaluation import Events, compare, evaluate, joined
from lumtar.core.rules.frame import Frame
from lumtar.core.rules.memory import Memory
from lumtar.core.rules.rule import Rule
from lumtar.core.rules.ruleset import RuleSet

NIGHT = (22, 6)
"""From this hour until that one (UTC) a call wakes somebody."""


@dataclass(frozen=True, slots=True)
class Raised:
    """One alarm that would have been raised.

    Attributes
    ----------
    subject : number of the subject
    raised_at, cleared_at : seconds of the epoch; None while it would still be active
    severity : the worst that it had
    value : what exceeded the limit when it was raised
    changes : of its status: raised, another severity, cleared
    """

    subject: int
    raised_at: float
    cleared_at: float | None
    severity: int
    value: float
    changes: int


Normals = Sequence[tuple[float, Baselines]]
"""What was known to be normal from a second of the epoch on, in the order of time; of each column of a frame."""


def rehearse(rule: Rule, frame: Frame, subjects: Sequence[int], normals: Normals = ()) -> list[Raised]:
    """The alarms of a rule over a frame of many instants, in the order in which they were raised.

    Parameters
    ----------
    subjects : (n,) number of the subject in each column of the frame
    """
    rules, placed = RuleSet((rule,)), replace(frame, slots=np.arange(len(subjects)))
    memory, events = Memory.blank(rules, len(subjects)), []
    for part, normal in _parts(placed, normals):
        if normal is not None:
            memory.baselines[rule.measure, rule.reference] = normal
        found, memory = evaluate(rules, part, memory)
        events.append(found)
    return _alarms(joined(events), subjects)


def _parts(frame: Frame, normals: Normals) -> Iterator[tuple[Frame, Baselines | None]]:
    """A frame cut where something else becomes normal."""
    latest = frame.at.max(axis=1, initial=0.0)
    cuts = [int(np.searchsorted(latest, start)) for start, _ in normals] or [0]
    for place, first in enumerate([0, *cuts[1:]]):
        end = cuts[place + 1] if place + 1 < len(cuts) else len(latest)
        rows = slice(first, end)
        part = replace(
            frame,
            at=frame.at[rows],
            values={name: each[rows] for name, each in frame.values.items()},
            flags=None if frame.flags is None else frame.flags[rows],
        )
        yield part, normals[place][1] if normals else None


def compared(rule: Rule, frame: Frame) -> NDArray[np.float64]:
    """What a rule's statistic gives: (t, n) as the frame has them, NaN where that cannot be told; before any reference."""
    rules, size = RuleSet((replace(rule, reference=Reference.NONE),)), frame.at.shape[1]
    placed, memory = replace(frame, slots=np.arange(size)), Memory.blank(rules, size)
    values, line = frame.values[rule.measure], np.empty(frame.at.shape)
    for instant in range(len(line)):
        memory.note_values(placed, instant)
        line[instant] = compare(rules.alike[0], placed, placed.at[instant], values[instant], memory)
    return line


def _alarms(events: Events, subjects: Sequence[int]) -> list[Raised]:
    active: dict[int, Raised] = {}
    ended: list[Raised] = []
    for place in np.argsort(events.at, kind="stable").tolist():
        column, at, severity = int(events.column[place]), float(events.at[place]), int(events.severity[place])
        known = active.pop(column, None)
        if known is None:
            value = float(events.value[place])
            active[column] = Raised(subjects[column], at, None, severity, value, 1)
        elif severity == 0:
            ended.append(replace(known, cleared_at=at, changes=known.changes + 1))
        else:
            active[column] = replace(known, severity=max(known.severity, severity), changes=known.changes + 1)
    return sorted((*ended, *active.values()), key=lambda alarm: (alarm.raised_at, alarm.subject))


@dataclass(frozen=True, slots=True)
class Figures:
    """What a rehearsal comes to.

    Attributes
    ----------
    alarms, changes : how many alarms, and changes of their status
    a_day : alarms a day
    at_night : alarms that were raised between 22 and 6 o'clock UTC
    active : alarms that were active at the end
    longest_s : seconds that one of them lasted
    by_severity : worst severity -> alarms
    noisiest : (subject, alarms, seconds active) of those with most alarms
    """

    alarms: int
    changes: int
    a_day: float
    at_night: int
    active: int
    longest_s: float
    by_severity: Mapping[int, int]
    noisiest: list[tuple[int, int, float]]


def figures(alarms: Sequence[Raised], start: float, end: float, most: int = 8) -> Figures:
    """The figures of what was raised between two times (seconds of the epoch)."""
    counts: Counter[int] = Counter(alarm.subject for alarm in alarms)
    seconds: Counter[int] = Counter()
    for alarm in alarms:
        seconds[alarm.subject] += round((alarm.cleared_at or end) - alarm.raised_at)
    days = max(1e-9, (end - start) / 86_400)
    noisiest = sorted(counts, key=lambda subject: (-counts[subject], -seconds[subject], subject))[:most]
    return Figures(
        alarms=len(alarms),
        changes=sum(alarm.changes for alarm in alarms),
        a_day=len(alarms) / days,
        at_night=sum(_is_night(alarm.raised_at) for alarm in alarms),
        active=sum(alarm.cleared_at is None for alarm in alarms),
        longest_s=max(((alarm.cleared_at or end) - alarm.raised_at for alarm in alarms), default=0.0),
        by_severity=dict(sorted(Counter(alarm.severity for alarm in alarms).items(), reverse=True)),
        noisiest=[(subject, counts[subject], float(seconds[subject])) for subject in noisiest],
    )


def _is_night(at: float) -> bool:
    hour = datetime.fromtimestamp(at, UTC).hour
    return hour >= NIGHT[0] or hour < NIGHT[1]
