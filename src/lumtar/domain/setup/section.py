"""What a section of a set-up is, and what its entries are made of."""

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from lumtar.core.refusal import Refusal
from lumtar.domain.operation.editing import put_in_order

Plain = dict[str, Any]


class Section(ABC):
    """One part of a set-up: entries with a name each, in their order."""

    key: str
    blank: Plain
    """What an entry has unless it says otherwise; no other fields are known."""
    former_key: str = ""
    """What exports of earlier versions call the section."""
    former: Mapping[str, str] = {}
    """Fields by the names that exports of earlier versions give them."""
    ordered: Any = None
    """The model whose rows have an order that matters."""

    @abstractmethod
    def read(self) -> list[Plain]:
        """All entries as they are."""

    @abstractmethod
    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a new or a changed entry.

        Raises
        ------
        Refusal
        """

    def upgraded(self, entry: Plain, by: str) -> Plain:
        """An entry as it is written today, of one that may come from an earlier version."""
        return {self.former.get(field, field): value for field, value in entry.items()}

    def order(self, names: Sequence[str]) -> None:
        """Put the entries in this order, those that are not named behind, if it matters."""
        if self.ordered is None:
            return
        places = {name: place for place, name in enumerate(names)}
        rows = list(self.ordered.objects.all())
        wanted = sorted(rows, key=lambda row: places.get(row.name, len(places)))
        if wanted != rows:
            put_in_order(self.ordered, [row.pk for row in wanted])


def numbers_of(model: Any, names: Sequence[str], what: str) -> list[int]:
    """The numbers of rows by their names.

    Raises
    ------
    Refusal
    """
    numbers = dict(model.objects.filter(name__in=names).values_list("name", "pk"))
    if missing := [name for name in names if name not in numbers]:
        raise Refusal(f"There is no {what} {missing[0]!r}.")
    return [numbers[name] for name in names]


def number_of(model: Any, name: str | None, what: str) -> int | None:
    """The number of a row by its name, if one is given."""
    return numbers_of(model, [name], what)[0] if name else None


def edition_of(model: Any, name: str) -> dict[str, int]:
    """Which row of which edition an entry changes."""
    entry = model.objects.get(name=name)
    return {"pk": entry.pk, "edition": entry.edition}


def time_of(value: Any) -> datetime:
    """A time as it is written, with its time zone.

    Raises
    ------
    Refusal
    """
    try:
        at = value if isinstance(value, datetime) else datetime.fromisoformat(str(value))
    except ValueError as error:
        raise Refusal(f"{value!r} is no time; write one like 2026-11-23T08:00:00+00:00.") from error
    if at.tzinfo is None:
        raise Refusal(f"{value!r} has no time zone; write one like 2026-11-23T08:00:00+00:00.")
    return at
