"""A recommended rule: what most networks want, with the reason for each recommended value."""

from dataclasses import dataclass

from lumtar.core.alarms.severity import Severity
from lumtar.core.rules.rule import Direction, Hold, Level, Rule

AT_ONCE = Hold()


@dataclass(frozen=True, slots=True)
class Ready:
    """A recommended rule.

    Attributes
    ----------
    why : what it is good for, and why it looks at what it looks at
    scope : a condition over ports; empty is all subjects
    reasons : of each level, why its limit is where it is
    """

    name: str
    why: str
    measure: str
    levels: tuple[Level, ...]
    reasons: tuple[str, ...]
    statistic: str = "value"
    window_s: int = 0
    hold: Hold = AT_ONCE
    scope: str = ""
    direction: Direction = Direction.ABOVE

    def rule(self, key: int = 0) -> Rule:
        """It as the evaluator takes it."""
        return Rule(key, self.measure, self.levels, self.hold, self.direction, self.statistic, window_s=self.window_s)


MINOR, MAJOR, WARNING, CRITICAL = Severity.MINOR, Severity.MAJOR, Severity.WARNING, Severity.CRITICAL
