"""Evaluating rules: frames of values in, events and memory out.

A level is due when its limit has been exceeded for as long as the rule holds. It stays while it is due, or while an alarm of
at least its severity is active and the value is not beyond the clearing limit. The severity of the alarm is that of the worst
such level. A missing value neither counts nor breaks a run; after a long silence counting starts anew.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

from lumtar.core.counters import GAP
from lumtar.core.rules.frame import Frame
from lumtar.core.rules.memory import Memory, Pairs
from lumtar.core.rules.rule import Direction, Timing
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


def joined(several: Sequence[Events]) -> Events:
    """The events of several frames after one another; their instants count from the begin of each frame."""
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
        compared: dict[object, NDArray[np.float64]] = {}
        for place, alike in enumerate(rules.alike):
            if (values := frame.values.get(alike.measure)) is None:
                continue
            key = alike.measure, alike.statistic, alike.window_s, alike.reference
            if key not in compared:
                compared[key] = compare(alike, frame, frame.at[instant], values[instant], memory)
            events += _look(rules, alike, place, frame, instant, compared[key], memory)
    return joined(events), memory


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
    near = np.flatnonzero(known & (_is_near(alike, signed) | memory.active[place, slots]))
    second = at.astype(np.uint32)
    before = memory.known[place, slots]
    memory.known[place, slots] = np.where(known, second, before)
    if not len(near):
        return []
    here, x, now = slots[near], signed[near], second[near]
    cells = np.ix_(alike.rows, np.arange(rules.levels), here)
    held = memory.held[cells]
    severity = memory.severity[np.ix_(alike.rows, here)]
    applies = (memory.applies[np.ix_(alike.rows, here)] & _within_hours(alike, at[near]))[:, None, :]

    silence = np.maximum(LAPSE_S, GAP * frame.interval[near])
    lapsed = (before[near] > 0) & (at[near] - before[near] > silence)
    exceeds, lingers = _beyond(alike, x)
    exceeds &= applies
    held_before = np.where(lapsed & (held != ALL_ALONG), np.uint32(0), held)
    if alike.direction is Direction.CHANGED:
        held_before, exceeds = _since_the_start(held_before, exceeds, before[near] == 0)
    after, due = _count(alike, held_before, exceeds, now)
    worst = alike.severities[:, :, None]
    stays = (severity[:, None, :] >= worst) & (worst > 0) & lingers & applies
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


def _is_near(alike: Alike, signed: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which values any of the rules has to look at, whatever it remembers."""
    if alike.direction.is_state:
        return np.isin(signed, alike.limits)
    near = signed > alike.lowest
    return near if np.isneginf(alike.highest_low) else near | (signed < alike.highest_low)


def _beyond(alike: Alike, x: NDArray[np.float64]) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Whether values exceed each limit, and whether they are not yet back beyond each clearing limit; (r, l, k)."""
    if alike.direction.is_state:
        is_it = x == alike.limits[:, :, None]
        return is_it, is_it
    exceeds, lingers = x > alike.limits[:, :, None], x >= alike.clears[:, :, None]
    if alike.direction is Direction.OUTSIDE:
        exceeds |= x < alike.lows[:, :, None]
        lingers |= x <= alike.low_clears[:, :, None]
    return exceeds, lingers


def _within_hours(alike: Alike, at: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Whether the rules hold at some times; few of them differ, since a batch was read together."""
    if not alike.hours.spans:
        return np.ones(len(at), np.bool_)
    minutes, place = np.unique(at // 60, return_inverse=True)
    held = [alike.hours.includes(datetime.fromtimestamp(60 * each, UTC)) for each in minutes.tolist()]
    return np.array(held, np.bool_)[place]


ALL_ALONG = np.uint32(2**31)
"""Remembered of a value that was there when it was seen first: it did not change to that."""


def _since_the_start(
    held: NDArray[np.uint32], exceeds: NDArray[np.bool_], is_first: NDArray[np.bool_]
) -> tuple[NDArray[np.uint32], NDArray[np.bool_]]:
    """Values that were the same all along count for nothing until they have been something else."""
    all_along = exceeds & ((held == ALL_ALONG) | (is_first & (held == 0)))
    return np.where(all_along, ALL_ALONG, np.where(held == ALL_ALONG, np.uint32(0), held)), exceeds & ~all_along


def compare(
    alike: Alike, frame: Frame, at: NDArray[np.float64], values: NDArray[np.float64], memory: Memory
) -> NDArray[np.float64]:
    """What is compared with the limits at one instant: the values or what follows from those before as well, and if there is
    a reference, how far that is from normal.

    Parameters
    ----------
    at : (n,) seconds of the epoch
    """
    statistic = STATISTICS[alike.statistic]
    if statistic.of is not None:
        result = statistic.of(values)
    else:
        assert statistic.over is not None
        window = memory.rings[alike.measure].window(frame.slots, alike.window_s, frame.interval)
        result = statistic.over(window, alike.window_s)
    if not alike.reference:
        return result
    normal = memory.baselines.get((alike.measure, alike.reference))
    return np.full(len(result), np.nan) if normal is None else normal.score(frame.slots, at, result)


def _count(
    alike: Alike, held: NDArray[np.uint32], exceeds: NDArray[np.bool_], now: NDArray[np.uint32]
) -> tuple[NDArray[np.uint32], NDArray[np.bool_]]:
    """What is remembered after one more value, and whether a level is due; all (r, l, k)."""
    if alike.timing is Timing.RUN:
        kept = np.where(held == ALL_ALONG, held, np.uint32(0))
        after = np.where(exceeds, np.minimum(held + 1, alike.wanted), kept)
        return after, exceeds & (after >= alike.wanted)
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
