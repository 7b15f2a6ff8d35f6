"""A rule: a measure, levels with their limits, and for how long a limit must be exceeded."""

import math
from dataclasses import dataclass
from enum import IntEnum

from lumtar.core.alarms.severity import Severity
from lumtar.core.measures import MEASURES
from lumtar.core.refusal import Refusal
from lumtar.core.rules.statistics import STATISTICS
from lumtar.core.rules.windows import LONGEST_WINDOW_S

LONGEST_RUN = 1000
"""Values in a row that a level may ask for."""
WIDEST = 32
"""The last so many values are remembered one by one."""
LONGEST_HOLD_S = 7 * 86400


class Timing(IntEnum):
    """How a rule counts towards a level, and so what is remembered of a subject."""

    RUN = 0
    """So many values in a row; the length of the run is remembered."""
    SHARE = 1
    """So many of the last values; one bit each is remembered."""
    DURATION = 2
    """For so many seconds; since when is remembered."""


@dataclass(frozen=True, slots=True)
class Hold:
    """For how long a limit must be exceeded: ``seconds``, or ``times`` of the last ``of`` values.

    Raises
    ------
    Refusal
    """

    seconds: int = 0
    times: int = 1
    of: int = 1

    def __post_init__(self) -> None:
        if not 0 <= self.seconds <= LONGEST_HOLD_S:
            raise Refusal("A limit can be exceeded for 0 seconds to 7 days before an alarm is raised.", "hold_s")
        if self.seconds and (self.times, self.of) != (1, 1):
            raise Refusal("Choose either a duration or a number of values, not both.", "hold_s")
        if not 1 <= self.times <= LONGEST_RUN:
            raise Refusal("The number of values must be between 1 and 1,000.", "times")
        if self.times != self.of and not self.times < self.of <= WIDEST:
            raise Refusal(f"Count the values of at most the last {WIDEST}, and no more of them than that.", "of")

    @property
    def timing(self) -> Timing:
        """How it counts."""
        if self.seconds:
            return Timing.DURATION
        return Timing.RUN if self.times == self.of else Timing.SHARE


@dataclass(frozen=True, slots=True)
class Level:
    """A severity, the limit beyond which it is reached, and the clearing limit on whose other side it ends."""

    severity: Severity
    limit: float
    clear: float


@dataclass(frozen=True, slots=True)
class Rule:
    """What is watched.

    Attributes
    ----------
    key : the rule's number
    measure : a name of MEASURES; its kind of subject is the rule's
    levels : in rising order of severity; with ``above`` their limits rise, else they fall
    hold : for how long a limit must be exceeded
    above : whether a value is bad above its limit, or below it
    statistic : a name of STATISTICS: what of the values is compared
    window_s : seconds that the statistic looks back over; 0 for one that looks at each value
    revision : a change of anything above makes another one; what was counted towards the old limits then starts anew
    armed : how often it was switched on; what was active when it was switched off was cleared then

    Raises
    ------
    Refusal
    """

    key: int
    measure: str
    levels: tuple[Level, ...]
    hold: Hold = Hold()
    above: bool = True
    statistic: str = "value"
    revision: int = 1
    armed: int = 1
    window_s: int = 0

    def __post_init__(self) -> None:
        if self.measure not in MEASURES:
            raise Refusal(f"There is no measure {self.measure}.", "measure")
        if self.statistic not in STATISTICS:
            raise Refusal(f"There is no statistic {self.statistic}.", "statistic")
        statistic = STATISTICS[self.statistic]
        if statistic.has_window and not 1 <= self.window_s <= LONGEST_WINDOW_S:
            raise Refusal(f"The {statistic.words} needs a window of 1 second to 24 hours.", "window_s")
        if not statistic.has_window and self.window_s:
            raise Refusal("A rule that looks at each value has no window.", "window_s")
        self._check_levels()

    def _check_levels(self) -> None:
        if not 1 <= len(self.levels) <= len(Severity) - 1:
            raise Refusal("A rule has one to five levels.", "levels")
        sign = 1 if self.above else -1
        word = "above" if self.above else "below"
        for level in self.levels:
            if level.severity is Severity.CLEARED:
                raise Refusal("The severity of a level is indeterminate, warning, minor, major or critical.", "levels")
            if not (math.isfinite(level.limit) and math.isfinite(level.clear)):
                raise Refusal("Limits are numbers.", "levels")
            if sign * level.clear > sign * level.limit:
                raise Refusal(f"The clearing limit must not be {word} the limit.", "levels")
        for lower, higher in zip(self.levels, self.levels[1:], strict=False):
            if higher.severity <= lower.severity or sign * higher.limit <= sign * lower.limit:
                raise Refusal(f"A worse severity needs a limit {word} that of the milder one.", "levels")
            if sign * higher.clear < sign * lower.clear:
                raise Refusal("The clearing limits must be in the order of the limits.", "levels")

    @property
    def subject(self) -> str:
        """The kind of subject that it watches."""
        return MEASURES[self.measure].subject
