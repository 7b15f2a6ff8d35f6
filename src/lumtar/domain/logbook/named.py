"""Rows that people give names: kept under a name that no other row has, and told of."""

from typing import TypeVar

from django.db.models import Model

from lumtar.core.refusal import Refusal
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce
from lumtar.domain.operation.topics import Topic

Row = TypeVar("Row", bound=Model)


def with_article(words: str) -> str:
    """A noun with its article, as a sentence begins with it."""
    return f"{'An' if words[0] in 'aeiou' else 'A'} {words}"


def keep_named(row: Row, words: str, by: str, topic: Topic, *, longest: int = 120, most: int) -> Row:
    """Keep a new row or a changed one, within the transaction of the caller.

    Parameters
    ----------
    words : what such a row is called
    topic : who looks at it is told by this

    Raises
    ------
    Refusal
        if its name is empty, too long or taken, or if there are too many
    """
    name = " ".join(str(getattr(row, "name", "")).split())
    row.name = name  # type: ignore[attr-defined]
    if not 1 <= len(name) <= longest:
        raise Refusal(f"{with_article(words)} needs a name of up to {longest} letters.", "name")
    others = type(row)._default_manager.exclude(pk=row.pk)
    if others.filter(name=name).exists():
        raise Refusal(f"There is {with_article(words).lower()} {name} already.", "name")
    is_new = row.pk is None
    if is_new and others.count() >= most:
        raise Refusal(f"There are {most:,} already.")
    row.save()
    note_action(f"{words} {name} {'created' if is_new else 'changed'}", by)
    announce(topic)
    return row
