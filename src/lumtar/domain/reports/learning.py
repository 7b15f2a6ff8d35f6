"""Learning what is normal from stored history: for rules that are in force, and for rehearsals as it was known then."""

import time
from collections.abc import Iterator, Sequence
from datetime import UTC, date, datetime, timedelta

import numpy as np

from lumtar.core.refusal import Refusal
from lumtar.core.rules import Baselines, Direction, Reference, compared
from lumtar.core.rules import Rule as CoreRule
from lumtar.core.rules.baseline import baselines, grid, tolerance, weeks_for
from lumtar.domain.alarms import baselines as kept
from lumtar.domain.alarms.models import Baseline, Rule
from lumtar.domain.alarms.rules import as_core, in_force
from lumtar.domain.reports import frames
from lumtar.domain.reports.rehearsals import subjects_of

PROPOSED_FROM = 100
"""Subjects that a limit is proposed from, if there are more."""
AT_ONCE = 250
"""Subjects that are learned together: eight weeks of them are some tens of megabytes."""
DAY, WEEK = timedelta(days=1), timedelta(days=7)
Days = Sequence[str]


def _spans(days: Days) -> list[tuple[float, float]]:
    starts = [datetime.combine(date.fromisoformat(day), datetime.min.time(), UTC).timestamp() for day in days]
    return [(start, start + 86_400) for start in starts]


def _whole_hour(at: datetime) -> datetime:
    return at.replace(minute=0, second=0, microsecond=0)


def learn(rule: CoreRule, subjects: Sequence[int], end: datetime, without: Days = ()) -> Baselines:
    """What is normal for some subjects, in their order, from what was stored until a time."""
    end, weeks = _whole_hour(end), weeks_for(rule.reference)
    parts = []
    for first in range(0, len(subjects), AT_ONCE):
        some = subjects[first : first + AT_ONCE]
        history = frames.of_measure(rule.measure, some, end - weeks * WEEK, end)
        frame = history.frame
        weekly = grid(frame.at, frame.values[rule.measure], end.timestamp(), weeks, _spans(without))
        parts.append(_in_order(some, history.subjects, baselines(weekly, end.timestamp(), rule.reference)))
    names = ("median", "scale", "weeks")
    return Baselines(*(np.concatenate([getattr(part, name) for part in parts]) for name in names))


def _in_order(wanted: Sequence[int], given: Sequence[int], ranges: Baselines) -> Baselines:
    order = np.searchsorted(np.array(given), np.array(wanted))
    return Baselines(ranges.median[order], ranges.scale[order], ranges.weeks[order])


def over(
    rule: CoreRule, subjects: Sequence[int], start: datetime, end: datetime, without: Days = ()
) -> list[tuple[float, Baselines]]:
    """What was known to be normal during a time: anew each week of what is learned, each day of what is compared with before."""
    every = WEEK if rule.reference is Reference.LEARNED else DAY
    first = start if rule.reference is Reference.LEARNED else start.replace(hour=0, minute=0, second=0, microsecond=0)
    found, at = [], first
    while at < end:
        found.append((at.timestamp(), learn(rule, subjects, at, without)))
        at += every
    return found


def due(today: datetime) -> Iterator[tuple[Rule, CoreRule, list[int]]]:
    """Rules with a reference, and the subjects of each whose normal range was not learned today."""
    for rule in in_force():
        watched = as_core(rule)
        if not watched.reference:
            continue
        fresh = Baseline.objects.filter(measure=rule.measure, reference=rule.reference, learned_at__gte=today)
        known = set(fresh.values_list("subject", flat=True))
        wanted = [each for each in subjects_of(watched.subject, rule.scope) if each not in known]
        if wanted:
            yield rule, watched, wanted


def renew(now: datetime) -> int:
    """Learn whatever is due; of how many subjects. Days end at midnight UTC, and what is normal is learned until then."""
    today = now.replace(hour=0, minute=0, second=0, microsecond=0)
    learned, began = 0, time.monotonic()
    for rule, watched, subjects in due(today):
        ranges = learn(watched, subjects, today, rule.without)
        # Of each rule at once and with a time of its own: collectors read all of it again when the last time changed.
        at = now + timedelta(seconds=time.monotonic() - began)
        kept.keep(rule.measure, watched.reference, subjects, ranges, at)
        learned += len(subjects)
    kept.forget(today - WEEK)
    return learned


def tolerances(
    rule: CoreRule, subjects: Sequence[int], start: datetime, end: datetime, a_week: Sequence[float], without: Days = ()
) -> list[float | None]:
    """Limits that would have been exceeded about so many times a week and subject; None where nothing is known.

    Raises
    ------
    Refusal
        if the rule has no reference
    """
    if not rule.reference:
        raise Refusal("Only limits of a rule that compares with what is normal can be proposed.", "reference")
    some = list(subjects)[:: max(1, len(subjects) // PROPOSED_FROM)][:PROPOSED_FROM]
    if not some:
        return [None] * len(a_week)
    frame = frames.of_measure(rule.measure, some, start, end).frame
    values, scores = compared(rule, frame), np.full(frame.at.shape, np.nan)
    slots = np.arange(len(some))
    for since, normal in over(rule, sorted(some), start, end, without):
        for instant in np.flatnonzero(frame.at.max(axis=1, initial=0.0) >= since):
            scores[instant] = normal.score(slots, frame.at[instant], values[instant])
    if rule.direction is Direction.OUTSIDE:
        scores = np.abs(scores)
    elif rule.direction is Direction.BELOW:
        scores = -scores
    interval = max(1.0, float(np.median(frame.interval)))
    times = rule.hold.times if not rule.hold.seconds else max(1, round(rule.hold.seconds / interval))
    limits = [tolerance(frame.at, scores, times, wanted) for wanted in a_week]
    return [None if limit is None else round(limit, 1) for limit in limits]
