"""Two people who edit the same thing: the second is told, and nothing is overwritten."""

from collections.abc import Iterable
from typing import TypeVar

from django.db import IntegrityError, models, transaction
from django.utils import timezone

from lumtar.core.refusal import Refusal


class Stale(Exception):
    """What was to be changed has been changed by somebody else meanwhile; the words say so."""


T = TypeVar("T", bound=models.Model)


def claim(model: type[T], pk: int, edition: int) -> T:
    """A row to change, locked, with its edition counted on. Call it in a transaction, and save the row.

    Raises
    ------
    Stale
        if the row is of another edition than the one that was seen
    ObjectDoesNotExist
        if it is not there
    """
    entry = model._default_manager.select_for_update(of=("self",)).get(pk=pk)
    current: int = entry.edition  # type: ignore[attr-defined]
    if current != edition:
        who = getattr(entry, "changed_by", "") or "somebody else"
        raise Stale(
            f"{who} changed this meanwhile. Nothing of yours is saved yet: look at what it is now, then save again."
        )
    entry.edition = current + 1  # type: ignore[attr-defined]
    return entry


def mark(row: models.Model, by: str) -> None:
    """Save a row with who changed it, and when.

    Raises
    ------
    Refusal
        if another one has its name already
    """
    row.changed_at, row.changed_by = timezone.now(), by[:150]  # type: ignore[attr-defined]
    try:
        with transaction.atomic():
            row.save()
    except IntegrityError as error:
        raise Refusal(f"There is a {row._meta.verbose_name} called {row} already.") from error


def put_in_order(model: type[T], numbers: Iterable[int]) -> list[T]:
    """Number the places of rows anew; what is not named keeps its place behind. Call it in a transaction.

    Raises
    ------
    Refusal
        if a number is none of a row
    """
    wanted = list(dict.fromkeys(numbers))
    there = {row.pk: row for row in model._default_manager.select_for_update()}
    if missing := [number for number in wanted if number not in there]:
        raise Refusal(f"There is no {model._meta.verbose_name} {missing[0]}; it may have been deleted meanwhile.")
    ordered = [there[number] for number in [*wanted, *(number for number in there if number not in wanted)]]
    for place, row in enumerate(ordered):
        row.place = place  # type: ignore[attr-defined]
    model._default_manager.bulk_update(ordered, ["place"])
    return ordered
