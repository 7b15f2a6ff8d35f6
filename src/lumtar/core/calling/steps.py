"""The steps of a call plan, and in which order they follow while nobody acknowledges."""

from collections.abc import Sequence
from dataclasses import dataclass

from lumtar.core.alarms.severity import Severity
from lumtar.core.refusal import Refusal

MOST_STEPS, MOST_TIMES = 20, 20
LONGEST_S, SHORTEST_REPEAT_S = 7 * 86_400, 60


@dataclass(frozen=True, slots=True)
class Step:
    """One step: after so many seconds without an acknowledgement, and how often it is repeated.

    Attributes
    ----------
    from_severity : it is left out for milder alarms

    Raises
    ------
    Refusal
    """

    after_s: int = 0
    times: int = 1
    repeat_s: int = 0
    from_severity: Severity = Severity.INDETERMINATE

    def __post_init__(self) -> None:
        if not 0 <= self.after_s <= LONGEST_S:
            raise Refusal("A step follows 0 seconds to 7 days after the alarm.", "steps")
        if not 1 <= self.times <= MOST_TIMES:
            raise Refusal(f"A step is repeated at most {MOST_TIMES} times.", "steps")
        if self.times > 1 and not SHORTEST_REPEAT_S <= self.repeat_s <= LONGEST_S:
            raise Refusal("A step is repeated after 1 minute to 7 days.", "steps")


@dataclass(frozen=True, slots=True)
class Call:
    """A step is due so many seconds after the alarm, for the ``round``-th time (from 0)."""

    after_s: int
    step: int
    round: int


def calls_of(steps: Sequence[Step]) -> tuple[Call, ...]:
    """All calls of a plan in the order of time, as long as nobody acknowledges.

    Raises
    ------
    Refusal
    """
    if len(steps) > MOST_STEPS:
        raise Refusal(f"A call plan has at most {MOST_STEPS} steps.", "steps")
    due = [
        Call(step.after_s + turn * step.repeat_s, place, turn)
        for place, step in enumerate(steps)
        for turn in range(step.times)
    ]
    return tuple(sorted(due, key=lambda each: (each.after_s, each.step, each.round)))
