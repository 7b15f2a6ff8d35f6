"""Measures of devices, from how their polls went."""

from dataclasses import dataclass
from typing import Any

from lumtar.core.measures.rates import Floats
from lumtar.core.measures.registry import Measure, register


@dataclass(frozen=True, slots=True)
class Polls:
    """One poll each of n devices.

    Attributes
    ----------
    unanswered : (n,) 1 where there was no answer, else 0
    rtt_ms : (n,) round trip in milliseconds, NaN without an answer
    uptime_s : (n,) seconds since it started, NaN where that is not known
    gone : (n,) interfaces that it listed within the last day and does not list any more; NaN where it lists none
    facts : of each device, what a sentence about it tells
    """

    unanswered: Floats
    rtt_ms: Floats
    uptime_s: Floats
    gone: Floats
    facts: tuple[dict[str, Any], ...]


register(
    Measure(
        "unanswered",
        "No answer to polls",
        "",
        "device",
        lambda polls: polls.unanswered,
        alarm="unreachable",
        facts=lambda polls, n: polls.facts[n],
    )
)
register(Measure("round_trip", "Round-trip time", "ms", "device", lambda polls: polls.rtt_ms))
register(
    Measure(
        "uptime",
        "Time since its start",
        "s",
        "device",
        lambda polls: polls.uptime_s,
        ("uptime_s",),
        alarm="restarted",
    )
)
register(
    Measure(
        "gone",
        "Interfaces gone within a day",
        "",
        "device",
        lambda polls: polls.gone,
        ("gone",),
        alarm="interfaces-gone",
        facts=lambda polls, n: polls.facts[n],
    )
)
