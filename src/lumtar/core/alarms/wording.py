"""Sentences about values and their limits."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from lumtar.core.alarms.link_wording import CLEARED, RAISED
from lumtar.core.measures import known_measure
from lumtar.core.rules.baseline import WORDS, Reference
from lumtar.core.rules.rule import Direction, Hold
from lumtar.core.rules.statistics import STATISTICS
from lumtar.core.units import counted, duration, figure, rate


@dataclass(frozen=True, slots=True)
class Limit:
    """A limit, and of a range the lower one."""

    upper: float
    lower: float = 0.0


def _held(hold: Hold, noun: str = "reading") -> str:
    """For how long, as the end of a sentence."""
    if hold.seconds:
        return f", for {duration(hold.seconds)}"
    if hold.times != hold.of:
        return f", in {hold.times} of the last {hold.of} {noun}s"
    return f", for {counted(hold.times, noun).lower()} in a row" if hold.times > 1 else ""


def compared(measure: str, statistic: str, window_s: int) -> tuple[str, str]:
    """What a rule compares, in words, and its unit."""
    known, over = known_measure(measure), STATISTICS.get(statistic)
    words, unit = (known.words, known.unit) if known else ("Value", "")
    if not window_s or over is None:
        return words, unit
    inner = words[:1].lower() + words[1:]
    return f"{over.words[:1].upper()}{over.words[1:]} of {inner} over {duration(window_s)}", over.unit.format(unit=unit)


def beyond(named: tuple[str, str], value: float, limit: Limit, direction: Direction, hold: Hold) -> str:
    """A value beyond its limit, of anything that is named with its unit."""
    words, unit = named
    upper, lower = figure(limit.upper, unit), figure(limit.lower, unit)
    match direction:
        case Direction.EQUAL:
            return f"{words} is {upper}{_held(hold)}"
        case Direction.CHANGED:
            return f"{words} changed to {upper}"
        case Direction.OUTSIDE:
            return f"{words} {figure(value, unit)}, outside {lower} to {upper}{_held(hold)}"
    return f"{words} {figure(value, unit)}, {direction} {upper}{_held(hold)}"


def within(named: tuple[str, str], value: float, clear: Limit, direction: Direction) -> str:
    """A value that is back, of anything that is named with its unit."""
    words, unit = named
    upper, lower = figure(clear.upper, unit), figure(clear.lower, unit)
    match direction:
        case Direction.EQUAL | Direction.CHANGED:
            return f"{words} is {figure(value, unit)}, not {upper} any more"
        case Direction.OUTSIDE:
            return f"{words} back to {figure(value, unit)}, within {lower} to {upper}"
    return f"{words} back to {figure(value, unit)}, {'below' if direction is Direction.ABOVE else 'above'} {upper}"


def unusual(named: tuple[str, str], reference: Reference, score: float, more: Mapping[str, Any], hold: Hold) -> str:
    """A value that is not what is normal at its time: ``more`` has what was measured and what would be usual."""
    words, unit = named
    measured, usual = figure(more.get("measured", 0.0), unit), more.get("usual", (0.0, 0.0))
    side = "above" if score > 0 else "below"
    if reference is Reference.LEARNED:
        low, high = (figure(each, unit) for each in usual)
        return f"{words} {measured}, {side} its usual range of {low} to {high}{_held(hold)}"
    return f"{words} {measured}, {abs(score):.0f} % {side} {WORDS[reference]} ({figure(more.get('normal', 0.0), unit)}){_held(hold)}"


def usual_again(named: tuple[str, str], reference: Reference, more: Mapping[str, Any]) -> str:
    """A value that is normal again."""
    words, unit = named
    return f"{words} back to {figure(more.get('measured', 0.0), unit)}, near what is normal ({figure(more.get('normal', 0.0), unit)})"


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


def _restarted(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    return f"Restarted {duration(value)} ago"


def _up(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return f"Up for {duration(value)} since its restart"


def _gone(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    names = ", ".join(more.get("gone", ()))
    return f"{counted(round(value), 'interface')} not listed any more{f': {names}' if names else ''}"


def _listed(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return "Listed again, or gone for more than a day"


def _slower(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    return f"Runs at {rate(more.get('speed_bps', 0.0))}, had {rate(more.get('fastest_bps', 0.0))}{_held(hold)}"


def _as_fast(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return f"Runs at {rate(more.get('speed_bps', 0.0))}, as fast as in the last 30 days"


def _half(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    return f"Half duplex{_held(hold)}"


def _full_duplex(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return "Full duplex"


def _unexplained(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    way = {"in": " inbound", "out": " outbound"}.get(more.get("way", ""), "")
    return (
        f"Flows explain {figure(value, '%')} of what the port counted{way}, less than {figure(limit, '%')}{_held(hold)}"
    )


def _explained(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return f"Flows explain {figure(value, '%')} of what the port counted"


def _fans_out(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    return f"{more.get('sender', 'A sender')} reached {round(value):,} addresses within a minute{_held(hold)}"


def _fans_out_no_more(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return "No sender reaches that many addresses any more"


def _tries_ports(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    return f"{more.get('sender', 'A sender')} tried {round(value):,} ports at {more.get('receiver', 'a receiver')} within a minute{_held(hold)}"


def _tries_ports_no_more(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return "No sender tries that many ports any more"


def _stranger(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    where = f" at {more['where']}" if more.get("where") else ""
    return f"{more.get('address', 'An address')} is not known: seen{where} with {more.get('peer', 'somebody')}, {more.get('service', '')}".rstrip(
        ", "
    )


def _no_stranger(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return "Not seen for an hour"


def _seen_first(noun: str) -> "Sentences":
    def seen(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
        names = ", ".join(more.get("names", ()))
        return (
            f"{counted(round(value), noun)} seen for the first time within the last hour{f': {names}' if names else ''}"
        )

    return Sentences(seen, lambda value, clear, more: f"No new {noun} within the last hour")


def _not_asked(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    return f"Cannot be asked: {more.get('why') or 'no reason is known'}"


def _members_missing(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    return f"{value:.0f} % of its members are missing from its last answer{_held(hold)}"


def _says(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    return f"The controller says: {more.get('says') or 'something is wrong'}"


def _says_no_more(value: float, clear: float, more: Mapping[str, Any]) -> str:
    return "The controller does not say so any more"


def _down(value: float, limit: float, hold: Hold, more: Mapping[str, Any]) -> str:
    state = more.get("state", "")
    return f"Down, says the controller{f' (state {state})' if state else ''}{_held(hold)}"


@dataclass(frozen=True, slots=True)
class Sentences:
    """A measure's own sentences, if values are bad on this side: while an alarm is active, and once it is cleared."""

    exceeded: Callable[[float, float, Hold, Mapping[str, Any]], str]
    returned: Callable[[float, float, Mapping[str, Any]], str]
    direction: Direction = Direction.ABOVE


def _of_links(measure: str) -> Sentences:
    raised, cleared = RAISED[measure], CLEARED[measure]
    side = Direction.BELOW if measure.endswith("_age") else Direction.ABOVE
    return Sentences(lambda value, limit, hold, more: raised(value, more), lambda value, clear, more: cleared, side)


SENTENCES = {
    "load": Sentences(_full, _not_full),
    "unanswered": Sentences(_unreachable, _reachable),
    "faulty": Sentences(_faulty, _not_faulty),
    "uptime": Sentences(_restarted, _up, Direction.BELOW),
    "gone": Sentences(_gone, _listed),
    "speed_kept": Sentences(_slower, _as_fast, Direction.BELOW),
    "half_duplex": Sentences(_half, _full_duplex),
    "flows_explained": Sentences(_unexplained, _explained, Direction.BELOW),
    "flows_fan_out": Sentences(_fans_out, _fans_out_no_more),
    "flows_ports_tried": Sentences(_tries_ports, _tries_ports_no_more),
    "stranger_seen": Sentences(_stranger, _no_stranger),
    "controller_failed": Sentences(_not_asked, lambda value, clear, more: "Can be asked again"),
    "controller_missing": Sentences(
        _members_missing, lambda value, clear, more: "All members are in its answers again"
    ),
    "controller_severity": Sentences(_says, _says_no_more),
    "item_severity": Sentences(_says, _says_no_more),
    "item_down": Sentences(_down, lambda value, clear, more: "Up again, says the controller"),
    "traffic_new_applications": _seen_first("application"),
    "traffic_new_senders": _seen_first("sender"),
    **{measure: _of_links(measure) for measure in RAISED},
}
"""Of measures for which the general sentence would say less."""
