"""Maintenance: times in which nobody is called for a part of the network."""

from datetime import datetime, timedelta
from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Field, Status

from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import maintenance
from lumtar.domain.alarms.maintenance import MaintenanceSpec
from lumtar.domain.alarms.models import Maintenance
from lumtar.domain.inventory.models import Site
from lumtar.server.api.access import OPERATOR, VIEWER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["maintenance"])
LONGEST = timedelta(days=400)


class MaintenanceIn(Schema):
    """A maintenance: a first time, how it repeats (a recurrence rule of RFC 5545; empty is once), and of what."""

    name: str
    reason: str = Field("", max_length=1000)
    start: datetime
    end: datetime
    repeats: str = Field("", max_length=200)
    zone: str = "UTC"
    sites: list[str] = Field([], max_length=500)
    groups: list[int] = Field([], max_length=500)
    devices: list[int] = Field([], max_length=500)
    interfaces: list[int] = Field([], max_length=500)


class MaintenanceChange(MaintenanceIn):
    """A change of a maintenance of this edition."""

    edition: int


class MaintenanceOut(MaintenanceIn):
    """A maintenance, what it is about in words, and the occurrence that goes on or comes next, null after the last one."""

    model_config = ALWAYS

    id: int
    about: list[str]
    next_start: datetime | None
    next_end: datetime | None
    is_running: bool
    edition: int
    changed_at: datetime
    changed_by: str


def _out(row: Maintenance) -> MaintenanceOut:
    now = timezone.now()
    names = ("name", "reason", "start", "end", "repeats", "zone", "edition", "changed_at", "changed_by")
    parts: dict[str, list[Any]] = {part: [each.pk for each in getattr(row, part).all()] for part in maintenance.PARTS}
    parts["sites"] = [each.name for each in row.sites.all()]
    named: dict[str, Any] = {**{name: getattr(row, name) for name in names}, **parts}
    return MaintenanceOut(
        id=row.pk,
        about=list(maintenance.parts_of(row)),
        next_start=row.span_start,
        next_end=row.span_end,
        is_running=row.span_start is not None and row.span_start <= now,
        **named,
    )


@router.get("/maintenance", needs=VIEWER.everywhere, response=list[MaintenanceOut])
def list_maintenance(request: HttpRequest) -> list[MaintenanceOut]:
    """All maintenance, what comes first first; what is over last."""
    rows = Maintenance.objects.prefetch_related("sites", "groups", "devices", "interfaces__device")
    return [_out(row) for row in sorted(rows, key=lambda each: (each.span_start is None, each.span_start or each.end))]


class OccurrenceOut(Schema):
    """One time of a maintenance."""

    maintenance: int
    name: str
    about: list[str]
    start: datetime
    end: datetime


@router.get("/maintenance/calendar", needs=VIEWER.everywhere, response=list[OccurrenceOut])
def show_calendar(request: HttpRequest, start: datetime, end: datetime) -> list[OccurrenceOut]:
    """All times of maintenance that touch a range of at most 400 days."""
    with refusing():
        if not timedelta() < end - start <= LONGEST:
            raise Refusal(f"The range ends after it begins, at most {LONGEST.days} days later.", "end")
        return [
            OccurrenceOut(
                maintenance=each.maintenance.pk, name=each.maintenance.name, start=each.start, end=each.end,
                about=list(maintenance.parts_of(each.maintenance)),
            )
            for each in maintenance.calendar(start, end)
        ]  # fmt: skip


def _spec(body: MaintenanceIn) -> MaintenanceSpec:
    """Sites by their names, as everywhere in the API; the rest by numbers."""
    given = body.model_dump(include=set(MaintenanceIn.model_fields))
    numbers = dict(Site.objects.filter(name__in=body.sites).values_list("name", "pk"))
    if missing := [name for name in body.sites if name not in numbers]:
        raise Refusal(f"There is no site {missing[0]}.", "sites")
    return MaintenanceSpec(**{**given, "sites": list(numbers.values())})


@router.post("/maintenance", needs=OPERATOR.everywhere, response={201: MaintenanceOut})
def make_maintenance(request: HttpRequest, body: MaintenanceIn) -> Status[MaintenanceOut]:
    """A new maintenance."""
    with refusing():
        return Status(201, _out(maintenance.save(_spec(body), request.user.get_username())))


@router.put("/maintenance/{int:number}", needs=OPERATOR.everywhere, response=MaintenanceOut)
def change_maintenance(request: HttpRequest, number: int, body: MaintenanceChange) -> MaintenanceOut:
    """Change a maintenance; what it does not cover any more is told from now on."""
    with refusing():
        return _out(maintenance.save(_spec(body), request.user.get_username(), number, body.edition))


@router.delete("/maintenance/{int:number}", needs=OPERATOR.everywhere, response={204: None})
def delete_maintenance(request: HttpRequest, number: int) -> Status[None]:
    """Delete a maintenance; what it kept quiet is told from now on."""
    maintenance.delete(number, request.user.get_username())
    return Status(204, None)
