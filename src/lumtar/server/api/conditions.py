"""What conditions can ask about, for the forms in which they are written."""

from collections.abc import Iterable

from ninja import Schema

from lumtar.core.conditions import VERBS, Field


class ConditionField(Schema):
    """A field of a condition, with the verbs that it takes."""

    name: str
    kind: str
    verbs: list[str]
    meaning: str


def fields_out(fields: Iterable[Field]) -> list[ConditionField]:
    """Fields as the API tells them."""
    return [ConditionField(name=f.name, kind=f.kind, verbs=list(VERBS[f.kind]), meaning=f.meaning) for f in fields]
