"""What a rule did: how often it fired, how often that was of use, which subjects make the noise, and what would help."""

from bisect import bisect_right
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from operator import itemgetter
from statistics import median

from lumtar.core.units import duration
from lumtar.domain.alarms.models import AlarmAction, AlarmChange, Notification

MOST = 50_000
"""Status changes that a report looks at, the newest."""
OF_USE = (AlarmAction.Kind.ACKNOWLEDGE, AlarmAction.Kind.COMMENT, AlarmAction.Kind.CLOSE)
HOLDS_S = (120, 300, 600, 900, 1800)
FEW = 6
"""Alarms from which on anything is proposed."""


@dataclass(frozen=True, slots=True)
class Episode:
    """One alarm from being raised to being cleared; ``end`` is that of the report if it was not."""

    alarm: int
    label: str
    start: datetime
    end: datetime
    was_of_use: bool

    @property
    def seconds(self) -> float:
        """How long it lasted."""
        return (self.end - self.start).total_seconds()


@dataclass(frozen=True, slots=True)
class RuleReport:
    """What a rule did in a time.

    Attributes
    ----------
    alarms : how often an alarm was raised
    of_use : how many of them somebody acknowledged, commented on or closed
    messages : how many notifications of them there were
    median_s : how long the alarm in the middle lasted
    noisiest : (alarm, label, how often raised, how many of use) of the subjects with most alarms
    proposals : what would make it quieter, in sentences
    """

    alarms: int
    of_use: int
    messages: int
    median_s: float
    noisiest: list[tuple[int, str, int, int]]
    proposals: list[str]


def of_rule(rule: int, start: datetime, end: datetime) -> RuleReport:
    """The report of a rule from start to end."""
    episodes = _episodes(rule, start, end)
    counts = Counter(each.alarm for each in episodes)
    useful = Counter(each.alarm for each in episodes if each.was_of_use)
    labels = {each.alarm: each.label for each in episodes}
    told = Notification.objects.filter(change__alarm__rule=rule, change__at__gte=start, change__at__lt=end)
    return RuleReport(
        alarms=len(episodes),
        of_use=useful.total(),
        messages=told.count(),
        median_s=median(each.seconds for each in episodes) if episodes else 0.0,
        noisiest=[(alarm, labels[alarm], count, useful[alarm]) for alarm, count in counts.most_common(5)],
        proposals=_proposals(episodes, counts, labels),
    )


def _episodes(rule: int, start: datetime, end: datetime) -> list[Episode]:
    changes = AlarmChange.objects.filter(alarm__rule=rule, at__gte=start, at__lt=end)
    rows = changes.order_by("-at", "-pk").values_list("alarm", "alarm__label", "at", "severity")[:MOST]
    raised: dict[int, tuple[str, datetime]] = {}
    spans: list[tuple[int, str, datetime, datetime]] = []
    for alarm, label, at, severity in reversed(rows):
        if severity:
            raised.setdefault(alarm, (label, at))
        elif alarm in raised:
            spans.append((alarm, *raised.pop(alarm), at))
    spans += [(alarm, *since, end) for alarm, since in raised.items()]
    spans.sort(key=itemgetter(2))
    useful = _of_use(spans)
    return [Episode(*span, was_of_use=(span[0], span[2]) in useful) for span in spans]


def _of_use(spans: Sequence[tuple[int, str, datetime, datetime]]) -> set[tuple[int, datetime]]:
    """Alarms and when they were raised, of those that somebody did something about.

    What somebody does is about the last time that the alarm was raised before; it may be over by then.
    """
    starts: dict[int, list[datetime]] = {}
    for alarm, _, since, _ in spans:
        starts.setdefault(alarm, []).append(since)
    found = set()
    for alarm, at in AlarmAction.objects.filter(alarm__in=starts, kind__in=OF_USE).values_list("alarm", "at"):
        if place := bisect_right(starts[alarm], at):
            found.add((alarm, starts[alarm][place - 1]))
    return found


def _proposals(episodes: Sequence[Episode], counts: Counter[int], labels: dict[int, str]) -> list[str]:
    if len(episodes) < FEW:
        return []
    found = []
    lasted = sorted(each.seconds for each in episodes)
    middle = lasted[len(lasted) // 2]
    for hold in HOLDS_S:
        if middle >= hold:
            continue
        gone = sum(seconds < hold for seconds in lasted)
        found.append(
            f"Half of its alarms end within {duration(max(1, middle))}. Held for {duration(hold)} longer,"
            f" {gone:,} of {len(lasted):,} would not have been raised."
        )
        break
    alarm, most = counts.most_common(1)[0]
    if most >= 0.4 * len(episodes) and len(counts) > 1:
        found.append(
            f"{labels[alarm]} makes {most:,} of {len(episodes):,} alarms: exempt it, or give it limits of its own."
        )
    if not any(each.was_of_use for each in episodes):
        found.append(
            "Nobody acknowledged, commented on or closed any of them: a higher limit or a longer hold would lose nothing."
        )
    return found
