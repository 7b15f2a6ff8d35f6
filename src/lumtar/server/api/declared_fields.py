"""Fields of flow records that no standard defines: what they tell is declared here."""

from typing import Literal

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Status
from pydantic import Field

from lumtar.core.flows.declared import Part
from lumtar.domain.flows import declared_fields
from lumtar.domain.flows.models import DeclaredField
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["traffic"])
Unit = Literal["ns", "µs", "ms", "s"]


class DeclaredFieldIn(Schema):
    """A field of records: its element, the enterprise that defines it (0 for NetFlow 9), what it tells, and its unit
    (which matters for times alone).
    """

    enterprise: int = 0
    element: int
    part: Part
    unit: Unit = "µs"


class DeclaredFieldOut(DeclaredFieldIn):
    """A declared field."""

    id: int


class UnknownField(Schema):
    """A field that exporters send though nothing is known of it: octets that it takes (0: they differ), and who sends it."""

    enterprise: int
    element: int
    length: int
    exporters: list[str]


class DeclaredFieldsOut(Schema):
    """Declared fields, and those that nobody declared yet."""

    rows: list[DeclaredFieldOut]
    unknown: list[UnknownField] = Field(description="From the templates that exporters sent last.")


@router.get("/traffic/declared-fields", needs=VIEWER, response=DeclaredFieldsOut)
def list_declared_fields(request: HttpRequest) -> DeclaredFieldsOut:
    """Fields that were declared, and makers' fields to choose from."""
    return DeclaredFieldsOut(
        rows=[_field(row) for row in DeclaredField.objects.order_by("enterprise", "element")],
        unknown=[
            UnknownField(enterprise=each.enterprise, element=each.element, length=each.length, exporters=each.exporters)
            for each in declared_fields.unknown()
        ],
    )


def _field(row: DeclaredField) -> DeclaredFieldOut:
    same = ("enterprise", "element", "part", "unit")
    return DeclaredFieldOut(id=row.pk, **{name: getattr(row, name) for name in same})


@router.post("/traffic/declared-fields", needs=ENGINEER.everywhere, response={201: DeclaredFieldOut})
def declare_field(request: HttpRequest, body: DeclaredFieldIn) -> Status[DeclaredFieldOut]:
    """Declare what a field tells; it holds for records from now on."""
    with refusing():
        row = declared_fields.keep(DeclaredField(**body.model_dump()), request.user.get_username())
    return Status(201, _field(row))


@router.put("/traffic/declared-fields/{int:field}", needs=ENGINEER.everywhere, response=DeclaredFieldOut)
def change_field(request: HttpRequest, field: int, body: DeclaredFieldIn) -> DeclaredFieldOut:
    """Change what was declared of a field."""
    row = get_object_or_404(DeclaredField, pk=field)
    for name, value in body.model_dump().items():
        setattr(row, name, value)
    with refusing():
        return _field(declared_fields.keep(row, request.user.get_username()))


@router.delete("/traffic/declared-fields/{int:field}", needs=ENGINEER.everywhere, response={204: None})
def delete_field(request: HttpRequest, field: int) -> Status[None]:
    """Read a field no longer; what was read by it stays."""
    get_object_or_404(DeclaredField, pk=field)
    declared_fields.delete(field, request.user.get_username())
    return Status(204, None)
