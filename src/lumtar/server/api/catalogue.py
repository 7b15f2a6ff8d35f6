"""The catalogue of devices and its own fields."""

from collections.abc import Iterator
from dataclasses import fields
from datetime import datetime

from django.http import HttpRequest, StreamingHttpResponse
from django.shortcuts import get_object_or_404
from ninja import Query, Status
from pydantic import field_validator

from lumtar.core.refusal import Refusal
from lumtar.core.text import csv_line
from lumtar.domain.inventory import catalogue
from lumtar.domain.inventory.catalogue import Item
from lumtar.domain.inventory.models import Group, OwnField
from lumtar.server.api import paging
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import aware

router = Router(tags=["catalogue"])
PLAIN = [each.name for each in fields(Item) if each.name not in ("id", "groups", "tags", "own")]


class Wanted(Schema):
    """Which devices, and in which order."""

    words: str = ""
    site: str = ""
    group: int | None = None
    since: datetime | None = None
    sort: str = "name"

    @field_validator("since")
    @classmethod
    def _in_utc(cls, since: datetime | None) -> datetime | None:
        return aware(since) if since else None


class WantedPage(Wanted):
    """The same, a page at a time."""

    limit: int = 500
    cursor: str | None = None


class Catalogue(Schema):
    """A page of the catalogue."""

    rows: list[Item]
    total: int
    next: str | None


class FieldIn(Schema):
    """A field to add to every device; ``choices`` for one that is a choice."""

    name: str
    kind: str = "text"
    choices: list[str] = []


class FieldOut(FieldIn):
    """A field of this installation's own."""

    model_config = ALWAYS

    id: int


@router.get("/catalogue", needs=VIEWER, response=Catalogue)
def list_items(request: HttpRequest, query: Query[WantedPage]) -> Catalogue:
    """Devices as things: maker, model, serial number, software, own fields."""
    start = paging.offset(query.cursor)
    wanted = query.model_dump(exclude={"limit", "cursor"})
    try:
        rows, total = catalogue.items(**wanted, limit=max(1, min(query.limit, 2000)), offset=start)
    except Refusal as error:
        raise Problem(422, str(error), "sort") from error
    return Catalogue(rows=rows, total=total, next=paging.following(start, len(rows), total))


@router.get("/catalogue.csv", needs=VIEWER)
def export_items(request: HttpRequest, query: Query[Wanted]) -> StreamingHttpResponse:
    """The same as CSV, with a column for each own field."""
    if query.sort.removeprefix("-") not in catalogue.COLUMNS:
        raise Problem(422, f"There is no order {query.sort!r}.", "sort")
    if query.group is not None:
        # Said before the first line is sent; later it would only break off.
        get_object_or_404(Group, pk=query.group)
    own = list(OwnField.objects.values_list("name", flat=True))

    def lines() -> Iterator[str]:
        yield csv_line([*PLAIN, "groups", "tags", *own])
        for item in catalogue.everything(**query.model_dump()):
            tags = "; ".join(f"{key}={value}" for key, value in item.tags.items())
            plain = [value.isoformat() if isinstance(value, datetime) else value or "" for value in _values(item)]
            yield csv_line([*plain, "; ".join(item.groups), tags, *(item.own.get(name, "") for name in own)])

    answer = StreamingHttpResponse(lines(), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = 'attachment; filename="catalogue.csv"'
    return answer


def _values(item: Item) -> list[object]:
    return [getattr(item, name) for name in PLAIN]


@router.get("/ownfields", needs=VIEWER, response=list[FieldOut])
def list_fields(request: HttpRequest) -> list[FieldOut]:
    """The fields that this installation has added to its devices."""
    return [FieldOut(id=f.pk, name=f.name, kind=f.kind, choices=f.choices) for f in OwnField.objects.all()]


@router.post("/ownfields", needs=ENGINEER.everywhere, response={201: FieldOut})
def make_field(request: HttpRequest, body: FieldIn) -> Status[FieldOut]:
    """Add a field to every device."""
    with refusing():
        made = catalogue.make_field(body.name, body.kind, body.choices, request.user.get_username())
    return Status(201, FieldOut(id=made.pk, name=made.name, kind=made.kind, choices=made.choices))


@router.delete("/ownfields/{int:field}", needs=ENGINEER.everywhere, response={204: None})
def remove_field(request: HttpRequest, field: int) -> Status[None]:
    """Take a field away, with what it held."""
    catalogue.remove_field(field, request.user.get_username())
    return Status(204, None)
