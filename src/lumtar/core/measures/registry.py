"""The registry of measures: defined quantities with a unit, which follow from what is stored.

Lists, grids, charts, exports and rules ask it. A further measure is registered in the module of its kind of subject, and
nowhere else.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from lumtar.core.measures.rates import Floats


@dataclass(frozen=True, slots=True)
class Measure:
    """A measure of one kind of subject.

    Attributes
    ----------
    name : in the API and in rules
    words : what it is, for sentences and screens
    unit : "%", "bit/s", "octets" and so on; empty for numbers without one
    subject : "interface", "device", "component" or "group"
    of : the values, from what the subjects counted or showed (Counts of interfaces, Polls of devices, …); NaN is missing
    needs : the stored columns that it follows from, beside the time that was measured
    ranks : whether lists can be put in its order
    alarm : the type of an alarm about it (alarm-type-id, RFC 8632), if that is another word
    facts : what else is to be told of subject ``n`` in a sentence about its value
    bound : what no value exceeds that is of a part of the time; with ``bound_needs`` as its stored columns. Whatever stays
        beneath a limit by it need not be looked at more closely
    """

    name: str
    words: str
    unit: str
    subject: str
    of: Callable[[Any], Floats]
    needs: tuple[str, ...] = ()
    ranks: bool = False
    alarm: str = ""
    facts: Callable[[Any, int], dict[str, Any]] = lambda counts, n: {}
    bound: Callable[[Any], Floats] | None = None
    bound_needs: tuple[str, ...] = ()


MEASURES: dict[str, Measure] = {}


def register(measure: Measure) -> Measure:
    """Make a measure known.

    Raises
    ------
    ValueError
        if there is another one of its name
    """
    if measure.name in MEASURES:
        raise ValueError(f"There are two measures {measure.name}.")
    MEASURES[measure.name] = measure
    return measure
