"""What probes of services are asked, and what they tell."""

import time
from dataclasses import dataclass, field

TIMEOUT_S = 10.0
"""Whoever waits for a service longer than that has given up."""


@dataclass(frozen=True, slots=True)
class Target:
    """Whom a probe asks, and for what.

    Attributes
    ----------
    address : empty if it comes of what is asked for
    expected : has to be in the answer; empty if any answer is right
    verifies : whether a certificate has to be one that this machine trusts
    traffic_class : DSCP times four
    """

    address: str
    port: int
    asked: str = ""
    expected: str = ""
    verifies: bool = True
    traffic_class: int = 0


@dataclass(slots=True)
class Asked:
    """What a probe came to.

    Attributes
    ----------
    took_us : until the whole answer was there, without the looking up of a name
    parts : of what that is made up (core/paths/kinds.py, PARTS), microseconds
    wrong : why an answer is not the right one; empty if it is
    certificate_days : until the certificate ends
    """

    took_us: float = 0.0
    parts: dict[str, float] = field(default_factory=dict)
    wrong: str = ""
    certificate_days: float | None = None


def microseconds(since: float) -> float:
    """How long ago a time of ``time.perf_counter`` is."""
    return (time.perf_counter() - since) * 1e6
