"""Many ports over one time: top and bottom lists, and every port as a cell."""

from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import Literal

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Query

from lumtar.core.measures import RANKED as MEASURES
from lumtar.core.totals import change, ranked
from lumtar.domain.inventory import queries
from lumtar.domain.readings import totals
from lumtar.domain.readings.totals import Summed
from lumtar.domain.reports import cells
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.answers import as_it_is
from lumtar.server.api.problems import Problem
from lumtar.server.api.schema import Schema
from lumtar.server.api.scope import ScopeIn
from lumtar.server.api.times import past, span

router = Router(tags=["totals"])
MOST = 500
WEEK = timedelta(days=7)
CHANGE = "change"


@dataclass(slots=True)
class TopRow:
    """A port with its totals; rates in bits per second, volumes in octets, shares in per cent, ``change`` in octaves."""

    id: int
    label: str
    name: str
    role: str
    device_id: int
    device: str
    site: str | None
    value: float
    load: float | None
    peak: float | None
    in_percent: float | None
    out_percent: float | None
    in_bps: float | None
    out_bps: float | None
    volume: float
    errors: float
    discards: float
    error_share: float | None
    packet_size: float | None
    measured: float
    up: float | None
    last_used: datetime | None


class Top(Schema):
    """Ports in the order of a measure over [start, end), which was rounded outwards to whole sums."""

    by: str
    start: datetime
    end: datetime
    ports: int
    rows: list[TopRow]


class TopFilter(ScopeIn):
    """Which ports to put in which order."""

    by: str = "load"
    lowest: bool = False
    start: datetime | None = None
    end: datetime | None = None
    limit: int = 50


@router.get("/top", needs=VIEWER, response=Top)
def top(request: HttpRequest, query: Query[TopFilter]) -> Top:
    """The ports with the highest or lowest values of a measure over a time."""
    if query.by not in (*MEASURES, CHANGE):
        raise Problem(422, f"There is no measure {query.by!r}; there are {', '.join((*MEASURES, CHANGE))}.", "by")
    since, until = span(query.start, query.end, timedelta(days=1))
    only = None
    if not query.scope.is_whole:
        only = [port for each in cells.of_devices(scope=query.scope) for port in each.ids]
    # Of all ports only what puts them in order is summed up; everything else of the few that are listed.
    measure = MEASURES["load" if query.by == CHANGE else query.by]
    sums = totals.of(since, until, only, measure.needs)
    if query.by == CHANGE:
        values = change(sums.totals, totals.of(since - WEEK, until - WEEK, only, measure.needs).totals)
        places = ranked(np.abs(values), _more(query.limit))
    else:
        values = measure.of(sums.totals)
        places = ranked(values, _more(query.limit), lowest=query.lowest)
    ids = sums.totals.interface[places].tolist()
    rows = _rows(ids, dict(zip(ids, values[places].tolist(), strict=True)), sums, _limit(query.limit), query.lowest)
    return Top(by=query.by, start=sums.start, end=sums.end, ports=len(sums.totals.interface), rows=rows)


def _limit(wanted: int) -> int:
    return max(1, min(wanted, MOST))


def _more(limit: int) -> int:
    """Some of the highest may have been retired or be gone meanwhile."""
    return 2 * _limit(limit) + 50


def _rows(ids: list[int], value_of: dict[int, float], summed: Summed, limit: int, lowest: bool) -> list[TopRow]:
    """The ports that are there still, in this order, with all their figures."""
    ports = queries.named(ids)
    there = [number for number in ids if number in ports][:limit]
    sums = totals.of(summed.start, summed.end, there).totals
    place_of = {number: place for place, number in enumerate(sums.interface.tolist())}
    unused = totals.last_used(there) if lowest else {}
    columns = {
        "load": sums.load(), "peak": sums.load(highest=True), "in_percent": sums.share("in"),
        "out_percent": sums.share("out"), "in_bps": sums.rate("in"), "out_bps": sums.rate("out"), "volume": sums.volume,
        "errors": sums.errors, "discards": sums.discards, "error_share": sums.errors_per_million,
        "packet_size": sums.packet_octets, "measured": sums.measured, "up": sums.up,
    }  # fmt: skip
    rows = []
    for number in there:
        fields = asdict(ports[number])
        fields |= {name: _known(column[place_of[number]]) for name, column in columns.items()}
        rows.append(TopRow(**fields, value=round(value_of[number], 3), last_used=unused.get(number)))
    return rows


def _known(value: float) -> float | None:
    return None if np.isnan(value) else round(float(value), 3)


@dataclass(slots=True)
class GridDevice(cells.DeviceCells):
    """A device's ports side by side; ``values`` are None where nothing was measured."""

    values: list[float | None]


@dataclass(slots=True)
class Grid:
    """Every port as a cell. Values are per cent of the speed, or errors and discards per million packets."""

    by: str
    start: datetime
    end: datetime
    devices: list[GridDevice]


class GridFilter(ScopeIn):
    """Which ports, shown by what, over which time."""

    by: Literal["load", "peak", "errors"] = "load"
    at: datetime | None = None
    start: datetime | None = None
    end: datetime | None = None


@router.get("/grid", needs=VIEWER, response=Grid)
def grid(request: HttpRequest, query: Query[GridFilter]) -> HttpResponse:
    """Every port of a device, a site or everything as a cell, over the last hour before a time or over a range."""
    moment = past(query.at)
    since, until = span(query.start, query.end or moment, timedelta(hours=1))
    listed = cells.of_devices(moment, query.scope)
    ids = [port for each in listed for port in each.ids]
    measure = MEASURES["error_share" if query.by == "errors" else query.by]
    sums = totals.of(since, until, None if query.scope.is_whole else ids, measure.needs)
    values = np.round(measure.of(sums.totals), 2).tolist()
    value_of = dict(zip(sums.totals.interface.tolist(), values, strict=True))
    nothing = float("nan")
    devices = []
    for each in listed:
        mine = (value_of.get(port, nothing) for port in each.ids)
        known = [None if value != value else value for value in mine]
        devices.append(GridDevice(each.id, each.name, each.site, each.ids, each.labels, each.names, each.states, known))
    return as_it_is(Grid(by=query.by, start=sums.start, end=sums.end, devices=devices))
