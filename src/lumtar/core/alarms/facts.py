"""What is known of a status change, as facts; the sentences about them are made here, when they are shown or sent."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any, ClassVar

from lumtar.core.alarms.wording import SENTENCES, Limit, beyond, compared, unusual, usual_again, within
from lumtar.core.rules.baseline import Reference
from lumtar.core.rules.rule import Direction, Hold, Level, Rule


@dataclass(frozen=True, slots=True)
class Exceeded:
    """A rule's level was reached: the value, its limit, and for how long the limit was exceeded by then.

    Attributes
    ----------
    more : what the measure adds for its sentence, such as direction and speed
    low : the lower limit of a range
    own : the sentence that the rule itself has for it; empty for the standard one
    """

    kind: ClassVar[str] = "exceeded"
    measure: str
    value: float
    limit: float
    direction: str = Direction.ABOVE
    seconds: int = 0
    times: int = 1
    of: int = 1
    rule: int = 0
    revision: int = 1
    more: Mapping[str, Any] = field(default_factory=dict)
    statistic: str = "value"
    window_s: int = 0
    reference: str = Reference.NONE
    low: float | None = None
    own: str = ""

    def sentence(self) -> str:
        """What the alarm says while it is active."""
        if self.own:
            return self.own
        held, direction = Hold(self.seconds, self.times, self.of), Direction(self.direction)
        named = compared(self.measure, self.statistic, self.window_s)
        if reference := Reference(self.reference):
            return unusual(named, reference, self.value, self.more, held)
        if (own := SENTENCES.get(self.measure)) and not self.window_s and direction is own.direction:
            return own.exceeded(self.value, self.limit, held, self.more)
        return beyond(named, self.value, Limit(self.limit, self.low or 0.0), direction, held)


@dataclass(frozen=True, slots=True)
class Returned:
    """The value is back on the other side of the clearing limit."""

    kind: ClassVar[str] = "returned"
    measure: str
    value: float
    clear: float
    direction: str = Direction.ABOVE
    rule: int = 0
    revision: int = 1
    more: Mapping[str, Any] = field(default_factory=dict)
    statistic: str = "value"
    window_s: int = 0
    reference: str = Reference.NONE
    low: float | None = None
    own: str = ""

    def sentence(self) -> str:
        """What it says once it is cleared."""
        if self.own:
            return self.own
        direction, named = Direction(self.direction), compared(self.measure, self.statistic, self.window_s)
        if reference := Reference(self.reference):
            return usual_again(named, reference, self.more)
        if (own := SENTENCES.get(self.measure)) and not self.window_s and direction is own.direction:
            return own.returned(self.value, self.clear, self.more)
        return within(named, self.value, Limit(self.clear, self.low or 0.0), direction)


@dataclass(frozen=True, slots=True)
class Ended:
    """Nobody watches any more: the rule or the resource is gone, or somebody took it out of use."""

    kind: ClassVar[str] = "ended"
    reason: str

    def sentence(self) -> str:
        """Why it was cleared."""
        return self.reason


@dataclass(frozen=True, slots=True)
class Said:
    """A sentence that was written when it happened."""

    kind: ClassVar[str] = "said"
    text: str

    def sentence(self) -> str:
        """The sentence."""
        return self.text


Facts = Exceeded | Returned | Ended | Said
KINDS: dict[str, type[Exceeded] | type[Returned] | type[Ended] | type[Said]] = {
    each.kind: each for each in (Exceeded, Returned, Ended, Said)
}


def stored(facts: Facts) -> dict[str, Any]:
    """Facts as they are stored."""
    return {"kind": facts.kind, **asdict(facts)}


def sentence(facts: Mapping[str, Any]) -> str:
    """The sentence of stored facts."""
    given = {name: value for name, value in facts.items() if name != "kind"}
    if "above" in given:
        # Facts of earlier versions knew two directions.
        given["direction"] = Direction.ABOVE if given.pop("above") else Direction.BELOW
    return KINDS[facts["kind"]](**given).sentence()


def exceeded(rule: Rule, severity: int, value: float, more: Mapping[str, Any]) -> Exceeded:
    """The facts of an alarm that a rule raised, or whose severity it changed."""
    level = next(each for each in rule.levels if each.severity == severity)
    hold = rule.hold
    return Exceeded(
        rule.measure, value, level.limit, rule.direction, hold.seconds, hold.times, hold.of, rule.key, rule.revision, more,
        rule.statistic, rule.window_s, rule.reference, level.low,
    )  # fmt: skip


def returned(rule: Rule, was: int, value: float, more: Mapping[str, Any]) -> Returned | Ended:
    """The facts of an alarm that a rule cleared; ``was`` is the severity that it had."""
    reached = [each for each in rule.levels if each.severity <= was] or list(rule.levels[:1])
    level: Level = reached[0]
    if not _is_back(rule.direction, level, value):
        return Ended("Outside the hours of the rule" if rule.hours.spans else "The rule does not apply here any more")
    return Returned(
        rule.measure, value, level.clear, rule.direction, rule.key, rule.revision, more, rule.statistic, rule.window_s,
        rule.reference, level.low_clear,
    )  # fmt: skip


def _is_back(direction: Direction, level: Level, value: float) -> bool:
    if direction.is_state:
        return value != level.limit
    if direction is Direction.BELOW:
        return value > level.clear
    return value < level.clear and (level.low_clear is None or value > level.low_clear)
