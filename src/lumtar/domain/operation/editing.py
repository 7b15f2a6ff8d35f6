"""Two people who edit the same thing: the second is told, and nothing is overwritten."""

from typing import TypeVar

from django.db import models


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
    found = model._default_manager.select_for_update(of=("self",)).get(pk=pk)
    current: int = found.edition  # type: ignore[attr-defined]
    if current != edition:
        who = getattr(found, "changed_by", "") or "somebody else"
        raise Stale(
            f"{who} changed this meanwhile. Nothing of yours is saved yet: look at what it is now, then save again."
        )
    found.edition = current + 1  # type: ignore[attr-defined]
    return found
