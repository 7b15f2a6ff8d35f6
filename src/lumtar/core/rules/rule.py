"""A rule: a measure, levels with their limits, and for how long a limit must be exceeded."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import IntEnum, StrEnum
from itertools import pairwise

from lumtar.core.alarms.severity import Severity
from lumtar.core.calling.hours import Hours
from lumtar.core.measures import measure_of
from lumtar.core.refusal import Refusal
from lumtar.core.rules.baseline import Reference
from lumtar.core.rules.statistics import STATISTICS
from lumtar.core.rules.windows import LONGEST_WINDOW_S

ALWAYS = Hours.of("")
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


class Direction(StrEnum):
    """On which side of its limit a value is bad."""

    ABOVE = "above"
    BELOW = "below"
    OUTSIDE = "outside"
    """Above the limit, or below a lower one of its own."""
    EQUAL = "equal"
    CHANGED = "changed"
    """Equal to the limit, after it was something else."""

    @property
    def is_state(self) -> bool:
        """Whether it is about one value rather than a range."""
        return self in (Direction.EQUAL, Direction.CHANGED)


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
    """A severity, the limit beyond which it is reached, and the clearing limit on whose other side it ends.

    ``low`` and ``low_clear`` are those of the other side of a range; none unless values are bad outside of one.
    """

    severity: Severity
    limit: float
    clear: float
    low: float | None = None
    low_clear: float | None = None


@dataclass(frozen=True, slots=True)
class Rule:
    """What is watched.

    Attributes
    ----------
    key : the rule's number
    measure : a name of MEASURES or a formula of them; its kind of subject is the rule's
    levels : in rising order of severity; with ``above`` their limits rise, else they fall
    hold : for how long a limit must be exceeded
    direction : on which side of its limit a value is bad
    statistic : a name of STATISTICS: what of the values is compared
    window_s : seconds that the statistic looks back over; 0 for one that looks at each value
    reference : what the statistic is compared with first; limits are then in units of its spread, or per cent
    hours : when the rule holds; nothing of it is active at other times
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
    direction: Direction = Direction.ABOVE
    statistic: str = "value"
    revision: int = 1
    armed: int = 1
    window_s: int = 0
    reference: Reference = Reference.NONE
    hours: Hours = ALWAYS

    def __post_init__(self) -> None:
        measure_of(self.measure)
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
        for level in self.levels:
            if level.severity is Severity.CLEARED:
                raise Refusal("The severity of a level is indeterminate, warning, minor, major or critical.", "levels")
            given = [each for each in (level.limit, level.clear, level.low, level.low_clear) if each is not None]
            if not all(math.isfinite(each) for each in given):
                raise Refusal("Limits are numbers.", "levels")
            if (self.direction is Direction.OUTSIDE) != (level.low is not None and level.low_clear is not None):
                raise Refusal("A range has an upper and a lower limit; other rules have one limit.", "levels")
        if any(more.severity <= less.severity for less, more in pairwise(self.levels)):
            raise Refusal("The levels stand in rising order of severity, each severity once.", "levels")
        if self.direction.is_state:
            self._check_state()
            return
        _check_order([(each.limit, each.clear) for each in self.levels], is_upper=self.direction is not Direction.BELOW)
        if self.direction is Direction.OUTSIDE:
            lows = [(each.low or 0.0, each.low_clear or 0.0) for each in self.levels]
            _check_order(lows, is_upper=False)
            if any(low >= each.limit for (low, _), each in zip(lows, self.levels, strict=True)):
                raise Refusal("The lower limit of a range must be below the upper one.", "levels")

    def _check_state(self) -> None:
        if STATISTICS[self.statistic].has_window or self.reference:
            raise Refusal("Only each value itself can be equal to something.", "direction")
        if self.direction is Direction.CHANGED and self.hold.timing is not Timing.RUN:
            raise Refusal("A change is counted in values in a row.", "hold_s")
        if len({each.limit for each in self.levels}) < len(self.levels):
            raise Refusal("Each level needs a value of its own.", "levels")

    @property
    def subject(self) -> str:
        """The kind of subject that it watches."""
        return measure_of(self.measure).subject


def _check_order(limits: Sequence[tuple[float, float]], *, is_upper: bool) -> None:
    """Whether limits and clearing limits, in rising order of severity, go further and further to one side."""
    sign, word = (1, "above") if is_upper else (-1, "below")
    if any(sign * clear > sign * limit for limit, clear in limits):
        raise Refusal(f"The clearing limit must not be {word} the limit.", "levels")
    for (limit, clear), (worse, worse_clear) in pairwise(limits):
        if sign * worse <= sign * limit:
            raise Refusal(f"A worse severity needs a limit {word} that of the milder one.", "levels")
        if sign * worse_clear < sign * clear:
            raise Refusal("The clearing limits must be in the order of the limits.", "levels")
