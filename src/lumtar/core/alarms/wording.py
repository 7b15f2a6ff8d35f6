"""Sentences about values and their limits."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from lumtar.core.measures import MEASURES
from lumtar.core.rules.rule import Hold
from lumtar.core.rules.statistics import STATISTICS
from lumtar.core.units import counted, duration, figure, rate


def _held(hold: Hold, noun: str = "reading") -> str:
    """For how long, as the end of a sentence."""
    if hold.seconds:
        return f", for {duration(hold.seconds)}"
    if hold.times != hold.of:
        return f", in {hold.times} of the last {hold.of} {noun}s"
    return f", for {counted(hold.times, noun).lower()} in a row" if hold.times > 1 else ""


def compared(measure: str, statistic: str, window_s: int) -> tuple[str, str]:
    """What a rule compares, in words, and its unit."""
    known, over = MEASURES.get(measure), STATISTICS.get(statistic)
    words, unit = (known.words, known.unit) if known else ("Value", "")
    if not window_s or over is None:
        return words, unit
    inner = words[:1].lower() + words[1:]
    return f"{over.words[:1].upper()}{over.words[1:]} of {inner} over {duration(window_s)}", over.unit.format(unit=unit)


def beyond(named: tuple[str, str], value: float, limit: float, above: bool, hold: Hold) -> str:
    """A value beyond its limit, of anything that is named with its unit."""
    words, unit = named
    side = "above" if above else "below"
    return f"{words} {figure(value, unit)}, {side} {figure(limit, unit)}{_held(hold)}"


def within(named: tuple[str, str], value: float, clear: float, above: bool) -> str:
    """A value that is back, of anything that is named with its unit."""
    words, unit = named
    return f"{words} back to {figure(value, unit)}, {'below' if above else 'above'} {figure(clear, unit)}"


def _full(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    way, bps, speed = more.get("direction", "out"), more.get("bps", 0.0), more.get("speed_bps", 0.0)
    return f"{value:.0f} % full {way}bound: {rate(bps)} of {rate(speed)}{_held(hold)}"


def _not_full(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return f"Back to {value:.0f} %, below {clear:.0f} %"


def _unreachable(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    return f"Does not answer: {more.get('reason', 'no answer')}"


def _reachable(value: float, clear: float, more: Mapping[str, Any]) -> str:
    seconds = more.get("silent_s", 0.0)
    return f"Answers again after {duration(seconds)}" if seconds >= 1 else "Answers again"


def _faulty(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    return f"State: {more.get('state', 'faulty')}{_held(hold)}"


def _not_faulty(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return f"State: {more.get('state', 'works')}"


@dataclass(frozen=True, slots=True)
class Sentences:
    """A measure's own sentences: while an alarm is active, and once it is cleared."""

    exceeded: Callable[[float, float, Hold, Mapping[str, Any]], str]
    returned: Callable[[float, float, Mapping[str, Any]], str]


SENTENCES = {
    "load": Sentences(_full, _not_full),
    "unanswered": Sentences(_unreachable, _reachable),
    "faulty": Sentences(_faulty, _not_faulty),
}
"""Of measures for which the general sentence would say less."""
