"""What is known of a status change, as facts; the sentences about them are made here, when they are shown or sent."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any, ClassVar

from lumtar.core.alarms.wording import SENTENCES, beyond, compared, within
from lumtar.core.rules.rule import Hold, Level, Rule


@dataclass(frozen=True, slots=True)
class Exceeded:
    """A rule's level was reached: the value, its limit, and for how long the limit was exceeded by then.

    Attributes
    ----------
    more : what the measure adds for its sentence, such as direction and speed
    """

    kind: ClassVar[str] = "exceeded"
    measure: str
    value: float
    limit: float
    above: bool = True
    seconds: int = 0
    times: int = 1
    of: int = 1
    rule: int = 0
    revision: int = 1
    more: Mapping[str, Any] = field(default_factory=dict)
    statistic: str = "value"
    window_s: int = 0

    def sentence(self) -> str:
        """What the alarm says while it is active."""
        held = Hold(self.seconds, self.times, self.of)
        if (own := SENTENCES.get(self.measure)) and not self.window_s:
            return own.exceeded(self.value, self.limit, held, self.more)
        named = compared(self.measure, self.statistic, self.window_s)
        return beyond(named, self.value, self.limit, self.above, held)


@dataclass(frozen=True, slots=True)
class Returned:
    """The value is back on the other side of the clearing limit."""

    kind: ClassVar[str] = "returned"
    measure: str
    value: float
    clear: float
    above: bool = True
    rule: int = 0
    revision: int = 1
    more: Mapping[str, Any] = field(default_factory=dict)
    statistic: str = "value"
    window_s: int = 0

    def sentence(self) -> str:
        """What it says once it is cleared."""
        if (own := SENTENCES.get(self.measure)) and not self.window_s:
            return own.returned(self.value, self.clear, self.more)
        return within(compared(self.measure, self.statistic, self.window_s), self.value, self.clear, self.above)


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
    return KINDS[facts["kind"]](**{name: value for name, value in facts.items() if name != "kind"}).sentence()


def exceeded(rule: Rule, severity: int, value: float, more: Mapping[str, Any]) -> Exceeded:
    """The facts of an alarm that a rule raised, or whose severity it changed."""
    level = next(each for each in rule.levels if each.severity == severity)
    hold = rule.hold
    return Exceeded(
        rule.measure,
        value,
        level.limit,
        rule.above,
        hold.seconds,
        hold.times,
        hold.of,
        rule.key,
        rule.revision,
        more,
        rule.statistic,
        rule.window_s,
    )


def returned(rule: Rule, was: int, value: float, more: Mapping[str, Any]) -> Returned | Ended:
    """The facts of an alarm that a rule cleared; ``was`` is the severity that it had."""
    reached = [each for each in rule.levels if each.severity <= was] or list(rule.levels[:1])
    level: Level = reached[0]
    is_back = value < level.clear if rule.above else value > level.clear
    if not is_back:
        return Ended("The rule does not apply here any more")
    return Returned(
        rule.measure,
        value,
        level.clear,
        rule.above,
        rule.key,
        rule.revision,
        more,
        rule.statistic,
        rule.window_s,
    )
