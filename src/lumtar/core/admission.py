"""Admission rules: what is done with what a sweep found."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from lumtar.core.conditions import Condition, Field, Kind
from lumtar.core.profiles import SYSTEM_FIELDS


class Outcome(StrEnum):
    """What happens to something new."""

    ADD = "add"
    HOLD = "hold"
    IGNORE = "ignore"


FOUND_FIELDS = (
    Field("address", Kind.ADDRESS, "one of its addresses: “is” one, or “in” a prefix"),
    Field("answered", Kind.WORDS, "has snmp, has icmp, has tcp"),
    *SYSTEM_FIELDS,
    Field("maker", Kind.TEXT, "of its chassis"),
    Field("model", Kind.TEXT, "of its chassis"),
    Field("serial", Kind.TEXT, "serial number"),
    Field("neighbour", Kind.TEXT, "the device that sees it by LLDP"),
    Field("sweep", Kind.TEXT, "the sweep that found it"),
)


@dataclass(frozen=True, slots=True)
class Admission:
    """One rule as it decides; what an added device is given is the caller's."""

    number: int
    name: str
    condition: Condition
    outcome: Outcome


def admit(box: Mapping[str, Any], rules: Sequence[Admission]) -> Admission | None:
    """The first rule that holds for what was found; None leaves it to a person."""
    return next((rule for rule in rules if rule.condition(box)), None)
