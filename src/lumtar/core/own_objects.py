"""Objects of makers' own that a profile reads: what each is, and how its number is understood."""

from collections.abc import Mapping
from dataclasses import dataclass

from lumtar.core.components import KINDS, ComponentKind
from lumtar.core.profiles import check_oid
from lumtar.core.refusal import Refusal

OBJECT = "object"
"""The kind of component that an object is unless its profile says otherwise."""


def own_kinds() -> dict[str, ComponentKind]:
    """Kinds of components that an object of a profile can be."""
    return {name: kind for name, kind in KINDS.items() if kind.is_own}


@dataclass(frozen=True, slots=True)
class ExtraObject:
    """An object that is read beside the standard tables.

    Attributes
    ----------
    oid : of one instance, or of a column whose instances are all read
    counts : it is a counter, kept as a rate per second; otherwise a gauge, kept as it is
    text : the number is written as text
    scale : what the number is multiplied by to have the unit
    part : the kind of component that it is
    names : a column with the names of the rows
    limit : what the number is a share of: one instance, or a column with the same rows
    states : for kinds with states: by the kind's word the device's numbers, such as ``up 1, 4; down 2``
    """

    oid: str
    name: str
    unit: str = ""
    scale: float = 1.0
    counts: bool = False
    text: bool = False
    part: str = OBJECT
    names: str = ""
    limit: str = ""
    states: str = ""

    @property
    def kind(self) -> ComponentKind:
        """What it is."""
        return KINDS[self.part]

    def state_numbers(self) -> Mapping[int, int]:
        """Of kinds with states, by the device's number the kind's own.

        Raises
        ------
        Refusal
        """
        words = {word: number for number, word in self.kind.states.items()}
        found: dict[int, int] = {}
        for group in filter(None, (group.strip() for group in self.states.split(";"))):
            word = next((word for word in words if group.startswith(f"{word} ")), None)
            try:
                if word is None:
                    raise ValueError
                found |= {int(number): words[word] for number in group.removeprefix(word).split(",")}
            except ValueError as error:
                example = "; ".join(f"{word} {number}" for word, number in words.items())
                raise Refusal(f"Write the device's numbers behind the words for them, such as “{example}”.") from error
        return found


def check_object(
    oid: str, name: str, unit: str = "", scale: float = 1.0, counts: bool = False, text: bool = False, part: str = OBJECT,
    names: str = "", limit: str = "", states: str = "",
) -> ExtraObject:  # fmt: skip
    """An extra object as it is kept.

    Raises
    ------
    Refusal
        with a sentence for the person who entered it
    """
    if not 1 <= len(name.strip()) <= 80:
        raise Refusal("An object's name has 1 to 80 characters.")
    if len(unit.strip()) > 16:
        raise Refusal("A unit has at most 16 characters.")
    if not (scale == scale and 1e-12 <= abs(scale) <= 1e12):
        raise Refusal("A scale must be between 1e-12 and 1e12.")
    if part not in own_kinds():
        raise Refusal(f"An object is one of: {', '.join(own_kinds())}.")
    kind = KINDS[part]
    if kind.is_share and not limit.strip():
        raise Refusal(f"{name.strip()} is a share: say which object is the limit.")
    if limit.strip() and not kind.is_share:
        raise Refusal(f"{name.strip()} has no limit; choose {', '.join(each.name for each in own_kinds().values() if each.is_share)} for a share.")  # fmt: skip
    names, limit = (check_oid(each) if each.strip() else "" for each in (names, limit))
    is_plain = part == OBJECT
    made = ExtraObject(
        check_oid(oid), name.strip(), unit.strip() if is_plain else "", float(scale), counts if is_plain else kind.counts, text, part,
        names, limit, "; ".join(" ".join(group.split()) for group in states.split(";") if group.strip()) if kind.has_state else "",
    )  # fmt: skip
    if kind.has_state and not made.state_numbers():
        words = ", ".join(kind.states.values())
        raise Refusal(f"Say by which numbers the device means {words}.")
    return made
