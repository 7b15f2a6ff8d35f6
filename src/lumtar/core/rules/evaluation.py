"""Evaluating rules: frames of values in, events and memory out.

A level is due when its limit has been exceeded for as long as the rule holds. It stays while it is due, or while an alarm of
at least its severity is active and the value is not beyond the clearing limit. The severity of the alarm is that of the worst
such level. A missing value neither counts nor breaks a run; after a long silence counting starts anew.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lumtar.core.counters import GAP
from lumtar.core.rules.frame import Frame
from lumtar.core.rules.memory import Memory, Pairs
from lumtar.core.rules.rule import Timing
from lumtar.core.rules.ruleset import Alike, RuleSet
from lumtar.core.rules.statistics import STATISTICS

LAPSE_S = 300.0
"""What was counted before a silence of so many seconds, and of more than GAP intervals, is forgotten: else one value after
two hours would satisfy a hold of ten minutes."""


@dataclass(frozen=True, slots=True)
class Events:
    """What e alarms did, in the order of time.

    Attributes
    ----------
    rule : (e,) row of the rule in its set
    slot : (e,) place of the subject in the memory
    column : (e,) place of the subject in the frame
    instant : (e,) row of the frame
    at : (e,) seconds of the epoch
    severity, was : (e,) after and before; 0 is cleared
    value : (e,) what was compared, with the rule's own sign
    """

    rule: NDArray[np.int64]
    slot: NDArray[np.int64]
    column: NDArray[np.int64]
    instant: NDArray[np.int64]
    at: NDArray[np.float64]
    severity: NDArray[np.int8]
    was: NDArray[np.int8]
    value: NDArray[np.float64]

    def __len__(self) -> int:
        return len(self.rule)


def _joined(several: list[Events]) -> Events:
    if len(several) == 1:
        return several[0]
    kinds = (np.int64, np.int64, np.int64, np.int64, np.float64, np.int8, np.int8, np.float64)
    names = Events.__dataclass_fields__
    return Events(
        *(
            np.concatenate([np.zeros(0, kind), *(getattr(each, name) for each in several)])
            for name, kind in zip(names, kinds, strict=True)
        )
    )


def evaluate(rules: RuleSet, frame: Frame, memory: Memory) -> tuple[Events, Memory]:
    """What follows from a frame of values.

    The memory that is given is handed over: go on with the one that comes back.

    Parameters
    ----------
    rules : those that the memory was made for
    frame : has a value for each of the rules' measures; one that it lacks is missing for all subjects
    memory : what came of the frame before
    """
    events: list[Events] = []
    for instant in range(len(frame.at)):
        memory.note_values(frame, instant)
        # Rules that only differ in how they count share what they compare.
        compared: dict[tuple[str, str, int], NDArray[np.float64]] = {}
        for place, alike in enumerate(rules.alike):
            if (values := frame.values.get(alike.measure)) is None:
                continue
            key = alike.measure, alike.statistic, alike.window_s
            if key not in compared:
                compared[key] = compare(alike, frame, values[instant], memory)
            events += _look(rules, alike, place, frame, instant, compared[key], memory)
    return _joined(events), memory


def _look(
    rules: RuleSet,
    alike: Alike,
    place: int,
    frame: Frame,
    instant: int,
    values: NDArray[np.float64],
    memory: Memory,
) -> list[Events]:
    """Rules that are alike, at one instant. Nearly all values are far from any limit, and looked at no further."""
    slots, at = frame.slots, frame.at[instant]
    signed = values * alike.sign
    known = ~np.isnan(signed)
    near = np.flatnonzero(known & ((signed > alike.lowest) | memory.active[place, slots]))
    second = at.astype(np.uint32)
    before = memory.known[place, slots]
    memory.known[place, slots] = np.where(known, second, before)
    if not len(near):
        return []
    here, x, now = slots[near], signed[near], second[near]
    cells = np.ix_(alike.rows, np.arange(rules.levels), here)
    held = memory.held[cells]
    severity = memory.severity[np.ix_(alike.rows, here)]
    applies = memory.applies[np.ix_(alike.rows, here)][:, None, :]

    silence = np.maximum(LAPSE_S, GAP * frame.interval[near])
    lapsed = (before[near] > 0) & (at[near] - before[near] > silence)
    exceeds = (x > alike.limits[:, :, None]) & applies
    after, due = _count(alike, np.where(lapsed, np.uint32(0), held), exceeds, now)
    worst = alike.severities[:, :, None]
    stays = (severity[:, None, :] >= worst) & (worst > 0) & (x >= alike.clears[:, :, None]) & applies
    renewed = np.where((due & applies) | stays, worst, np.int8(0)).max(axis=1)

    memory.held[cells] = after
    memory.severity[np.ix_(alike.rows, here)] = renewed
    memory.active[place, here] = (after != 0).any(axis=(0, 1)) | (renewed != 0).any(axis=0)
    _note_changes(rules, alike, here, held, after, memory)
    rule, subject = np.nonzero(renewed != severity)
    if not len(rule):
        return []
    return [
        Events(
            alike.rows[rule],
            here[subject],
            near[subject],
            np.full(len(rule), instant),
            at[near][subject],
            renewed[rule, subject],
            severity[rule, subject],
            x[subject] * alike.sign,
        )
    ]


def compare(alike: Alike, frame: Frame, values: NDArray[np.float64], memory: Memory) -> NDArray[np.float64]:
    """What is compared with the limits at one instant: the values, or what follows from those before as well."""
    statistic = STATISTICS[alike.statistic]
    if statistic.of is not None:
        return statistic.of(values)
    assert statistic.over is not None
    window = memory.rings[alike.measure].window(frame.slots, alike.window_s, frame.interval)
    return statistic.over(window, alike.window_s)


def _count(
    alike: Alike, held: NDArray[np.uint32], exceeds: NDArray[np.bool_], now: NDArray[np.uint32]
) -> tuple[NDArray[np.uint32], NDArray[np.bool_]]:
    """What is remembered after one more value, and whether a level is due; all (r, l, k)."""
    if alike.timing is Timing.RUN:
        after = np.where(exceeds, np.minimum(held + 1, alike.wanted), np.uint32(0))
        return after, after >= alike.wanted
    if alike.timing is Timing.SHARE:
        after = ((held << np.uint32(1)) | exceeds) & alike.window
        return after, np.bitwise_count(after) >= alike.wanted
    since = np.where(exceeds, np.where(held == 0, now, held), np.uint32(0))
    # A clock that was set back must not make an age of 136 years.
    return since, exceeds & (np.maximum(now, since) - since >= alike.wanted)


def _note_changes(
    rules: RuleSet,
    alike: Alike,
    here: NDArray[np.int64],
    before: NDArray[np.uint32],
    after: NDArray[np.uint32],
    memory: Memory,
) -> None:
    rule, level, subject = np.nonzero(before != after)
    if not len(rule):
        return
    rows = alike.rows[rule]
    memory.changed.append(
        Pairs(
            rules.keys[rows],
            rules.revisions[rows],
            memory.owner[here[subject]],
            memory.subject[here[subject]],
            level.astype(np.int64),
            after[rule, level, subject].astype(np.int64),
        )
    )
