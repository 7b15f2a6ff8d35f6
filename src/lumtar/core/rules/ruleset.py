"""Rules as arrays: those that look at the same values in the same way are evaluated together."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lumtar.core.calling.hours import Hours
from lumtar.core.rules.baseline import Reference
from lumtar.core.rules.rule import Direction, Rule, Timing


@dataclass(frozen=True, slots=True)
class Alike:
    """r rules with one measure, statistic, window, reference, direction, timing and hours, with up to l levels each.

    Attributes
    ----------
    rows : (r,) their places in the set
    sign : -1 where values are bad below their limit, else 1; values and limits are multiplied by it
    limits, clears : (r, l) multiplied by the sign; infinite where a rule has no such level
    lows, low_clears : (r, l) of the other side of a range; minus infinity where there is none
    severities : (r, l) 0 where it has none
    wanted : (r, 1, 1) values in a row, values of the last ones, or seconds
    window : (r, 1, 1) with Timing.SHARE, a bit for each of the last values; else 0
    lowest, highest_low : the mildest limits of all of them: what is between them concerns none
    """

    measure: str
    statistic: str
    window_s: int
    reference: Reference
    direction: Direction
    hours: Hours
    sign: float
    timing: Timing
    rows: NDArray[np.int64]
    limits: NDArray[np.float64]
    clears: NDArray[np.float64]
    lows: NDArray[np.float64]
    low_clears: NDArray[np.float64]
    severities: NDArray[np.int8]
    wanted: NDArray[np.uint32]
    window: NDArray[np.uint32]
    lowest: float
    highest_low: float


@dataclass(frozen=True, slots=True)
class RuleSet:
    """The rules of one kind of subject.

    Attributes
    ----------
    rules : in the order of their rows
    keys, revisions : (r,) numbers and revisions of the rules
    levels : as many as the rule with the most has
    alike : the rules in groups
    windows : the measures of which values have to be remembered, and for how many seconds
    references : what has to be known of normal ranges: measure and reference
    """

    rules: tuple[Rule, ...]
    keys: NDArray[np.int64] = field(init=False, compare=False)
    revisions: NDArray[np.int64] = field(init=False, compare=False)
    levels: int = field(init=False, compare=False)
    alike: tuple[Alike, ...] = field(init=False, compare=False)
    windows: dict[str, int] = field(init=False, compare=False)
    references: frozenset[tuple[str, Reference]] = field(init=False, compare=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "keys", np.array([rule.key for rule in self.rules], np.int64))
        object.__setattr__(self, "revisions", np.array([rule.revision for rule in self.rules], np.int64))
        object.__setattr__(self, "levels", max((len(rule.levels) for rule in self.rules), default=1))
        groups: dict[object, list[int]] = {}
        for row, rule in enumerate(self.rules):
            same = (
                rule.measure,
                rule.statistic,
                rule.window_s,
                rule.reference,
                rule.direction,
                rule.hold.timing,
                rule.hours,
            )
            groups.setdefault(same, []).append(row)
        grouped = (self._group([self.rules[row] for row in rows], rows) for rows in groups.values())
        object.__setattr__(self, "alike", tuple(grouped))
        windows: dict[str, int] = {}
        for rule in self.rules:
            if rule.window_s:
                windows[rule.measure] = max(windows.get(rule.measure, 0), rule.window_s)
        object.__setattr__(self, "windows", windows)
        compared_with = frozenset((rule.measure, rule.reference) for rule in self.rules if rule.reference)
        object.__setattr__(self, "references", compared_with)

    @property
    def measures(self) -> set[str]:
        """What a frame needs to have."""
        return {rule.measure for rule in self.rules}

    def _group(self, rules: Sequence[Rule], rows: list[int]) -> Alike:
        first = rules[0]
        sign, timing = (-1.0 if first.direction is Direction.BELOW else 1.0), first.hold.timing
        limits = np.full((len(rules), self.levels), np.inf)
        clears, lows, severities = limits.copy(), -limits, np.zeros(limits.shape, np.int8)
        low_clears = lows.copy()
        for place, rule in enumerate(rules):
            for number, level in enumerate(rule.levels):
                limits[place, number], clears[place, number] = sign * level.limit, sign * level.clear
                severities[place, number] = level.severity
                if level.low is not None and level.low_clear is not None:
                    lows[place, number], low_clears[place, number] = level.low, level.low_clear
        wanted = [rule.hold.seconds if timing is Timing.DURATION else rule.hold.times for rule in rules]
        window = [2**rule.hold.of - 1 if timing is Timing.SHARE else 0 for rule in rules]
        return Alike(
            first.measure,
            first.statistic,
            first.window_s,
            first.reference,
            first.direction,
            first.hours,
            sign,
            timing,
            np.array(rows, np.int64),
            limits,
            clears,
            lows,
            low_clears,
            severities,
            np.array(wanted, np.uint32)[:, None, None],
            np.array(window, np.uint32)[:, None, None],
            float(limits.min()),
            float(lows.max()),
        )
