"""Response times that exporters tell of, and which of their fields do."""

from datetime import datetime
from typing import Literal

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Query, Status
from pydantic import Field

from lumtar.core.flows.response_times import Part
from lumtar.domain.flows import response_times, time_fields
from lumtar.domain.flows.models import ResponseField
from lumtar.domain.reports import response_names, traffic
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.files import table_file
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import span
from lumtar.server.api.traffic import HOUR, FilterOut, TrafficFilters, filters_of, title_of

router = Router(tags=["traffic"])
Unit = Literal["ns", "µs", "ms", "s"]


class ResponseTimesAsked(TrafficFilters):
    """Of which traffic, and by what response times are put together; addresses are those of servers."""

    by: Literal["application", "server", "site", "exporter"] = "application"


class MeanOut(Schema):
    """Mean and longest time, milliseconds, over so many answers; nothing where there is none."""

    ms: float | None
    longest_ms: float | None
    number: int


class ResponseRow(Schema):
    """Response times that were put together; ``filters`` narrow traffic to them."""

    name: str
    more: str
    filters: dict[str, str]
    network: MeanOut
    server: MeanOut


class ResponseTimesOut(Schema):
    """Response times over a time, the longest first; ``network`` and ``server`` are means of each step in milliseconds.

    ``number`` is how many rows there are in all.
    """

    title: str
    filters: list[FilterOut]
    start: datetime
    end: datetime
    step_s: int
    at: list[float]
    network: list[float | None]
    server: list[float | None]
    whole: ResponseRow
    rows: list[ResponseRow]
    number: int


@router.get("/traffic/response-times", needs=VIEWER, response=ResponseTimesOut)
def show_response_times(request: HttpRequest, query: Query[ResponseTimesAsked]) -> ResponseTimesOut:
    """How long the network takes and how long servers do; without times of the last hour."""
    since, until = traffic.complete(*span(query.start, query.end, HOUR))
    title, _ = title_of(query)
    with refusing():
        found = response_times.read(query.asked, query.by, since, until, query.limit)
    ends = found.start.timestamp() + found.step_s * np.arange(1, len(found.network) + 1)
    return ResponseTimesOut(
        title=title,
        filters=filters_of(query),
        start=found.start,
        end=found.end,
        step_s=found.step_s,
        at=np.minimum(ends, found.end.timestamp()).tolist(),
        network=_known(found.network),
        server=_known(found.server),
        whole=_row(found.whole, traffic.Named("all of it", "", {})),
        rows=[_row(*pair) for pair in zip(found.rows, response_names.names_of(query.by, found.rows), strict=True)],
        number=found.number,
    )


def _known(values: np.ndarray) -> list[float | None]:
    return [None if np.isnan(each) else each for each in values.tolist()]


def _row(row: response_times.Row, called: traffic.Named) -> ResponseRow:
    network, server = (
        MeanOut(ms=each.ms, longest_ms=each.longest_ms, number=each.number) for each in (row.network, row.server)
    )
    return ResponseRow(name=called.name, more=called.more, filters=called.filters, network=network, server=server)


@router.get("/traffic/response-times/export", needs=VIEWER)
def export_response_times(
    request: HttpRequest, query: Query[ResponseTimesAsked], format: Literal["csv", "parquet"] = "csv"
) -> HttpResponse:
    """The same rows as a file, the first 500; milliseconds over the whole time."""
    since, until = traffic.complete(*span(query.start, query.end, HOUR))
    title_of(query)
    with refusing():
        found = response_times.read(query.asked, query.by, since, until, response_times.MOST_ROWS)
    named = response_names.names_of(query.by, found.rows)
    columns = {
        query.by: [each.name for each in named],
        "more": [each.more for each in named],
        **{
            f"{part}_{name}": [getattr(getattr(row, part), name) for row in found.rows]
            for part in ("network", "server")
            for name in ("ms", "longest_ms", "number")
        },
        "start": [found.start.isoformat()] * len(named),
        "end": [found.end.isoformat()] * len(named),
    }
    return table_file("response-times", format, columns)


class ResponseFieldIn(Schema):
    """A field of records: its element, the enterprise that defines it (0 for NetFlow 9), what it tells, and its unit (of counts it does not matter)."""

    enterprise: int = 0
    element: int
    part: Part
    unit: Unit = "µs"


class ResponseFieldOut(ResponseFieldIn):
    """A declared field."""

    id: int


class UnknownField(Schema):
    """A field that exporters send though nothing is known of it: octets that it takes (0: they differ), and who sends it."""

    enterprise: int
    element: int
    length: int
    exporters: list[str]


class ResponseFieldsOut(Schema):
    """Declared fields, and those that nobody declared yet."""

    rows: list[ResponseFieldOut]
    unknown: list[UnknownField] = Field(description="From the templates that exporters sent last.")


@router.get("/traffic/response-fields", needs=VIEWER, response=ResponseFieldsOut)
def list_response_fields(request: HttpRequest) -> ResponseFieldsOut:
    """Fields that tell of response times, and makers' fields to choose from."""
    return ResponseFieldsOut(
        rows=[_field(row) for row in ResponseField.objects.order_by("enterprise", "element")],
        unknown=[
            UnknownField(enterprise=each.enterprise, element=each.element, length=each.length, exporters=each.exporters)
            for each in time_fields.unknown()
        ],
    )


def _field(row: ResponseField) -> ResponseFieldOut:
    same = ("enterprise", "element", "part", "unit")
    return ResponseFieldOut(id=row.pk, **{name: getattr(row, name) for name in same})


@router.post("/traffic/response-fields", needs=ENGINEER.everywhere, response={201: ResponseFieldOut})
def declare_response_field(request: HttpRequest, body: ResponseFieldIn) -> Status[ResponseFieldOut]:
    """Declare what a field tells; it holds for records from now on."""
    with refusing():
        row = time_fields.keep(ResponseField(**body.model_dump()), request.user.get_username())
    return Status(201, _field(row))


@router.put("/traffic/response-fields/{int:field}", needs=ENGINEER.everywhere, response=ResponseFieldOut)
def change_response_field(request: HttpRequest, field: int, body: ResponseFieldIn) -> ResponseFieldOut:
    """Change what was declared of a field."""
    row = get_object_or_404(ResponseField, pk=field)
    for name, value in body.model_dump().items():
        setattr(row, name, value)
    with refusing():
        return _field(time_fields.keep(row, request.user.get_username()))


@router.delete("/traffic/response-fields/{int:field}", needs=ENGINEER.everywhere, response={204: None})
def delete_response_field(request: HttpRequest, field: int) -> Status[None]:
    """Read a field no longer; what was read by it stays."""
    get_object_or_404(ResponseField, pk=field)
    time_fields.delete(field, request.user.get_username())
    return Status(204, None)
