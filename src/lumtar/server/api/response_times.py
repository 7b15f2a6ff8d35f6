"""Response times that exporters tell of, and which of their fields do."""

from datetime import datetime
from typing import Literal

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Query

from lumtar.domain.flows import response_times
from lumtar.domain.reports import response_names, traffic
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.files import table_file
from lumtar.server.api.numbers import known_values
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import span
from lumtar.server.api.traffic import HOUR, FilterOut, TrafficFilters, filters_of, title_of

router = Router(tags=["traffic"])


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
        network=known_values(found.network),
        server=known_values(found.server),
        whole=_row(found.whole, traffic.Named("all of it", "", {})),
        rows=[_row(*pair) for pair in zip(found.rows, response_names.names_of(query.by, found.rows), strict=True)],
        number=found.number,
    )


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
