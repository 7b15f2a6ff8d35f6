"""What evaluating rules costs: ``./lumtar bench rules``.

1, 10 and 200 rules with three levels each over 100,000 interfaces that are polled once a minute, so 1,667 at a time, with the
real measures; a minute of it. Three in a hundred interfaces are above some of the limits all the time; then all of them are.
"""

import time

import numpy as np

from bench.setting import Figure, report
from lumtar.core.alarms.severity import Severity
from lumtar.core.measures import MEASURES, Counts
from lumtar.core.rules import Frame, Hold, Level, Memory, Rule, RuleSet, evaluate

INTERFACES, AT_ONCE, HOT = 100_000, 1_667, 0.03
MEASURED = ("load", "in", "out", "errors", "error_share", "packet_size")
STATISTICS = ("mean", "maximum", "percentile95")
START = 1_795_000_000.0
INSTANTS, SUBJECTS = 2_016, 1_000


def _rules(number: int, window_s: int = 0) -> RuleSet:
    """Rules over several measures, held in each of the three ways; with a window they look back in one of three ways."""
    holds = (Hold(times=3, of=3), Hold(seconds=300), Hold(times=3, of=5))
    limits = {"load": 60.0, "in": 6e8, "out": 6e8, "errors": 100.0, "error_share": 1000.0, "packet_size": 2000.0}
    rules = []
    for key in range(number):
        name = MEASURED[key % len(MEASURED)]
        base = limits[name] * (1 + 0.002 * key)
        levels = tuple(
            Level(severity, base * times, 0.9 * base * times)
            for severity, times in ((Severity.MINOR, 1.0), (Severity.MAJOR, 1.2), (Severity.CRITICAL, 1.4))
        )
        statistic = STATISTICS[key // 3 % 3] if window_s else "value"
        rules.append(Rule(key, name, levels, holds[key % 3], statistic=statistic, window_s=window_s))
    return RuleSet(tuple(rules))


def _counts(dice: np.random.Generator, number: int, hot_share: float) -> Counts:
    hot = np.arange(number) < hot_share * number
    share = np.where(hot, dice.uniform(0.5, 1.0, number), dice.uniform(0.0, 0.4, number))
    octets = (share * 1e9 / 8 * 60).astype(np.int64)
    columns = {
        "in_octets": octets, "out_octets": octets // 2, "in_packets": octets // 700, "out_packets": octets // 1400,
        "in_errors": np.where(hot, 120, 0), "elapsed_ms": np.full(number, 60_000),
    }  # fmt: skip
    speed = np.full(number, 1e9)
    return Counts.of(columns, speed, speed, interface=np.arange(number), seconds=60)


def _minute(number: int, dice: np.random.Generator, hot_share: float = HOT, window_s: int = 0) -> tuple[float, int]:
    """CPU seconds a minute of 100,000 interfaces takes once the rules have settled, and the events in it."""
    rules = _rules(number, window_s)
    memory = Memory.blank(rules, INTERFACES)
    batches = [np.arange(first, min(first + AT_ONCE, INTERFACES)) for first in range(0, INTERFACES, AT_ONCE)]
    used, seen = 0.0, 0
    for minute in range(4 + window_s // 60):
        used, seen = 0.0, 0
        for place, slots in enumerate(batches):
            counts = _counts(dice, len(slots), hot_share)
            at = np.full(len(slots), START + 60 * minute + place)
            began = time.process_time()
            values = {name: MEASURES[name].of(counts) for name in rules.measures}
            frame = Frame.of_instant(slots, at, np.full(len(slots), 60.0), values)
            events, memory = evaluate(rules, frame, memory)
            memory.take_changes()
            used += time.process_time() - began
            seen += len(events)
    return used, seen


def rules() -> None:
    """Evaluate, and report."""
    dice = np.random.default_rng(11)
    figures = []
    for number, hot_share in ((1, HOT), (10, HOT), (200, HOT), (200, 1.0)):
        used, seen = _minute(number, dice, hot_share)
        what = f"{number} rules over 100,000 interfaces a minute" + (", all above limits" if hot_share == 1 else "")
        goal = "25 % of a core" if number == 200 and hot_share < 1 else ""
        figures.append(Figure(what, 100 * used / 60, "% of a core", goal))
        figures.append(Figure("events in that minute", seen, ""))
    used, _ = _minute(200, dice, HOT, 600)
    what = "200 rules over ten minutes each (mean, maximum, 95th percentile), 100,000 interfaces a minute"
    figures.append(Figure(what, 100 * used / 60, "% of a core", "25 % of a core"))
    one = _rules(1)
    values = np.clip(dice.normal(45, 15, (INSTANTS, SUBJECTS)), 0, 100)
    at = np.repeat(START + 300.0 * np.arange(INSTANTS)[:, None], SUBJECTS, axis=1)
    frame = Frame(np.arange(SUBJECTS), at, np.full(SUBJECTS, 300.0), {"load": values})
    began = time.process_time()
    events, _ = evaluate(one, frame, Memory.blank(one, SUBJECTS))
    took = time.process_time() - began
    figures.append(Figure("one rule over a week of 1,000 interfaces (2,016 instants)", took, "CPU-s"))
    figures.append(Figure("events in that week", len(events), ""))
    over = _rules(1, 3600)
    began = time.process_time()
    evaluate(over, frame, Memory.blank(over, SUBJECTS))
    took = time.process_time() - began
    figures.append(Figure("the same of its mean over an hour", took, "CPU-s"))
    report("rules: what evaluating them costs", figures)
