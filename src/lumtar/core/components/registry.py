"""The registry of component kinds: what is read of each, how it is understood, its states, how it is charted.

A further kind is one file beside this one. Profiles, polls, the check of values at the wire, alarms, the device's page and
exports ask here.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from lumtar.core.discovery import STATE, ComponentDescribed
from lumtar.core.profiles import Table

Index = tuple[int, ...]
"""The numbers behind a column's identifier that tell its rows apart."""
Value = int | bytes
Rows = Mapping[str, Mapping[Index, Value]]
"""What a device showed: by name of the column, the value of each row, in the device's order. Columns that it lacks are empty."""


@dataclass(frozen=True, slots=True)
class Column:
    """A column of a standard table.

    Attributes
    ----------
    name, oid : as its MIB has them
    low, high : what a number may be; None for texts and object identifiers
    is_oid : its values are object identifiers
    """

    name: str
    oid: str
    low: int | None = None
    high: int | None = None
    is_oid: bool = False


@dataclass(frozen=True, slots=True)
class ComponentKind:
    """A kind of component, each of which gives one number.

    Attributes
    ----------
    name : as it is stored
    words : what one of them is called
    table : what a profile has to want for it to be read
    columns : read to find out which there are
    discover : which there are, from these columns
    value : the column of the number; None where each component has an identifier of its own
    total : what the number is a share of, which makes it per cent
    is_read_often : at every poll; others move slowly and are read at most every half minute
    states, good : for kinds whose number stands for a word: the words, and the numbers that are no fault
    chart : kinds with the same one, and the same unit, are drawn together
    unit, scale, counts : of kinds that are read by an object of a profile: the unit, what the device's number is multiplied by, and
        whether it is a counter of which a rate per second is kept
    is_share : its number is shown as a share of another object
    """

    name: str
    words: str
    table: Table | None
    columns: tuple[Column, ...]
    discover: Callable[[Rows], list[ComponentDescribed]]
    value: Column | None = None
    total: Column | None = None
    is_read_often: bool = False
    states: Mapping[int, str] = field(default_factory=dict)
    good: frozenset[int] = frozenset()
    chart: str = ""
    unit: str = ""
    scale: float = 1.0
    counts: bool = False
    is_share: bool = False

    @property
    def is_own(self) -> bool:
        """It is read by an object of a profile."""
        return self.table is None

    @property
    def has_state(self) -> bool:
        """Its number stands for a word."""
        return bool(self.states)

    def word(self, number: float | None) -> str:
        """The word for a state."""
        return self.states.get(-1 if number is None else round(number), "not known")

    def state_of(self, told: float | None, numbers: Mapping[int, int]) -> float:
        """The state that a device means by a number; what is absent or unheard of is the worst one."""
        worst = max(self.states, key=lambda number: (number not in self.good, number))
        return float(worst if told is None else numbers.get(round(told), worst))

    def is_fault(self, number: float | None) -> bool:
        """Whether a state is a fault; what is not known is none."""
        return self.has_state and number is not None and round(number) not in self.good


KINDS: dict[str, ComponentKind] = {}
"""In the order in which they are shown."""


def register(kind: ComponentKind) -> ComponentKind:
    """Make a kind of component known."""
    KINDS[kind.name] = kind
    return kind


def columns() -> dict[str, Column]:
    """Every column of every kind, by identifier."""
    return {
        column.oid: column
        for kind in KINDS.values()
        for column in (*kind.columns, kind.value, kind.total)
        if column is not None
    }


def part(kind: str, index: Index, name: str, unit: str, scale: float = 1.0) -> ComponentDescribed:
    """A component of a standard table; its index is written with dots between its numbers."""
    return ComponentDescribed(kind, ".".join(map(str, index)), name, unit, scale)


def with_state(kind: str, index: Index, name: str) -> ComponentDescribed:
    """A component whose number stands for a word."""
    return part(kind, index, name, STATE)
