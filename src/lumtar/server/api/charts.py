"""Charts: interfaces over time, and how each figure came about."""

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta

from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from ninja import Query

from lumtar.core import calculation
from lumtar.core.speeds import SpeedSource
from lumtar.core.text import csv_line
from lumtar.core.units import duration
from lumtar.domain.inventory import queries, refreshes
from lumtar.domain.inventory.models import Interface
from lumtar.domain.readings import retention, series, sums
from lumtar.domain.readings.series import Line, Series
from lumtar.domain.reports import cells, context
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.answers import as_it_is
from lumtar.server.api.fleet import SpeedOut, interface_called
from lumtar.server.api.problems import Problem
from lumtar.server.api.schema import Schema
from lumtar.server.api.scope import ScopeIn
from lumtar.server.api.times import past, span

router = Router(tags=["charts"])
MOST_LINES, MOST_PORTS = 50, 500


class GapOut(Schema):
    """A gap and why."""

    start: datetime
    end: datetime | None
    reason: str
    words: str


class EthernetSum(Schema):
    """What only Ethernet counts, over a time."""

    fcs_errors: int
    alignment_errors: int
    late_collisions: int


@dataclass(frozen=True, slots=True)
class Mark:
    """Something that happened in the time of a chart. ``severity`` is that of an alarm's change (0: cleared), else null."""

    at: float
    kind: str
    severity: int | None
    words: str


def port_polled(interface: int) -> queries.Polled:
    """What a chart has to know of a port; 404 if it is not there."""
    port = queries.polled(interface)
    if port is None:
        raise Problem(404, "There is nothing with that number.")
    return port


@dataclass(slots=True)
class SeriesOut(Series):
    """A chart: points, what is seen in figures, gaps with reasons, the speeds in force, what happened, and Ethernet's errors."""

    gaps: list[GapOut]
    speeds: list[SpeedOut]
    marks: list[Mark]
    ethernet: EthernetSum


def gaps_of(device: int, since: datetime, until: datetime) -> list[GapOut]:
    """Gaps of a device that touch a time, for an answer."""
    rows = series.gaps(device, since, until)
    return [GapOut(start=gap.start, end=gap.end, reason=gap.reason, words=gap.words) for gap in rows]


@router.get("/interfaces/{interface}/series", needs=VIEWER, response=SeriesOut)
def interface_series(
    request: HttpRequest, interface: int, start: datetime | None = None, end: datetime | None = None, points: int = 800
) -> HttpResponse:
    """Rates over time; a step in which nothing was counted has none."""
    port = port_polled(interface)
    since, until = span(start, end, timedelta(days=1))
    read = series.read(port, since, until, points)
    values = {name: getattr(read, name) for name in Series.__dataclass_fields__}
    return as_it_is(SeriesOut(**values, **asdict(context.read(interface, port.device_id, since, until))))


@dataclass(slots=True)
class NamedLine:
    """One interface of several on a chart."""

    interface_id: int
    label: str
    device: str
    device_id: int
    in_bps: list[float | None]
    out_bps: list[float | None]


@dataclass(slots=True)
class LinesOut:
    """Several interfaces over the same time: those that carried most as lines, and what all of them add up to."""

    source: str
    step_s: int
    at: list[int]
    ports: int
    lines: list[NamedLine]
    total: NamedLine
    gaps: list[GapOut]


class LinesFilter(ScopeIn):
    """Which interfaces: by their numbers, or by where they are and what they are for."""

    interfaces: list[int] = []
    start: datetime | None = None
    end: datetime | None = None
    points: int = 400
    lines: int = 12


@router.get("/series", needs=VIEWER, response=LinesOut)
def several(request: HttpRequest, query: Query[LinesFilter]) -> HttpResponse:
    """Rates of several interfaces over the same time, and their total."""
    cells_shown = cells.of_devices(scope=query.scope)
    wanted = set(query.interfaces)
    ports = {
        port: (label, each.name, each.id)
        for each in cells_shown
        for port, label in zip(each.ids, each.labels, strict=True)
        if not wanted or port in wanted
    }
    if len(ports) > MOST_PORTS:
        raise Problem(
            422, f"These are {len(ports):,} ports; {MOST_PORTS} at most are added up. Choose a site or a role."
        )
    if not ports:
        raise Problem(404, "There is no such port.")
    since, until = span(query.start, query.end, timedelta(days=1))
    read = series.read_lines(list(ports), since, until, points=query.points)
    busiest = sorted(read.lines, key=lambda line: -line.mean)[: max(0, min(query.lines, MOST_LINES))]

    def named(line: Line, label: str, device: str, number: int) -> NamedLine:
        return NamedLine(
            interface_id=line.interface_id, label=label, device=device, device_id=number,
            in_bps=line.in_bps, out_bps=line.out_bps,
        )  # fmt: skip

    devices = {device for _, _, device in ports.values()}
    return as_it_is(LinesOut(
        source=read.source, step_s=read.step_s, at=read.at, ports=len(ports),
        lines=[named(line, *ports[line.interface_id]) for line in busiest],
        total=named(read.total, "Total", "", 0),
        gaps=gaps_of(devices.pop(), since, until) if len(devices) == 1 else [],
    ))  # fmt: skip


@router.get("/interfaces/{interface}/series.csv", needs=VIEWER)
def interface_csv(
    request: HttpRequest, interface: int, start: datetime | None = None, end: datetime | None = None
) -> StreamingHttpResponse:
    """The same as CSV: times are the ends of steps, rates in bits per second, empty where there is none."""
    read = series.read(port_polled(interface), *span(start, end, timedelta(days=1)), points=series.MOST_POINTS)

    def lines() -> Iterator[str]:
        yield csv_line(["end", "seconds", "in_bps", "out_bps", "in_max_bps", "out_max_bps", "errors", "discards"])
        columns = (read.in_bps, read.out_bps, read.in_max_bps, read.out_max_bps, read.errors, read.discards)
        for at, *values in zip(read.at, *columns, strict=True):
            cells_of_row = ("" if value is None else value for value in values)
            yield csv_line([datetime.fromtimestamp(at, UTC).isoformat(), read.step_s, *cells_of_row])

    answer = StreamingHttpResponse(lines(), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="interface-{interface}.csv"'
    return answer


class CalculationOut(Schema):
    """How a figure came about, in lines; ``at`` is the end of what was measured."""

    at: datetime | None
    direction: str
    figure: str
    lines: list[str]


@router.get("/interfaces/{interface}/calculation", needs=VIEWER, response=list[CalculationOut])
def interface_calculation(request: HttpRequest, interface: int, at: datetime, step: int = 0) -> list[CalculationOut]:
    """The calculation of both directions' rates: of the reading at a time, or of a step of so many seconds that ends there."""
    port = interface_called(interface)
    moment = past(at)
    assert moment is not None
    if not 0 <= step <= 31 * 86400:
        raise Problem(422, "A step is at most 31 days long.", "step")
    if step > 1.5 * port.device.interval_s or not retention.are_readings_kept(moment):
        return _calculation_of_sum(port, moment, step or 3600)
    reading = series.reading_at(interface, moment)
    if reading is None:
        why = "nothing was read within the hour after this time"
        return [CalculationOut(at=None, direction=way, figure="no reading", lines=[why]) for way in ("in", "out")]
    calculations, refresh = [], refreshes.of_device(port.device_id)
    for direction, octets in (("in", reading.in_octets), ("out", reading.out_octets)):
        speed, source = _speed_at(interface, reading.at, direction)
        how = calculation.of_rate(
            direction, port.if_index, octets, reading.elapsed_ms, reading.flags, speed, source, refresh
        )
        calculations.append(CalculationOut(at=reading.at, direction=direction, figure=how.figure, lines=how.lines))
    return calculations


def _speed_at(interface: int, at: datetime, direction: str) -> tuple[int, SpeedSource]:
    speed = series.speed_at(interface, at)
    if speed is None:
        return 0, SpeedSource.UNKNOWN
    return getattr(speed, f"{direction}_bps"), SpeedSource(getattr(speed, f"{direction}_source"))


def _calculation_of_sum(port: Interface, end: datetime, step: int) -> list[CalculationOut]:
    start = end - timedelta(seconds=step)
    read = sums.read([port.pk], start, end, step)
    total = {name: int(read.rows[name].sum()) for name in calculation.SUMMED}
    missing = step - total["elapsed_ms"] / 1000
    reasons = [
        f"{gap.reason}: {gap.words}, {duration((min(gap.end or end, end) - max(gap.start, start)).total_seconds())}"
        for gap in gaps_of(port.device_id, start, end)
    ]
    calculations = []
    for direction in ("in", "out"):
        speed, source = _speed_at(port.pk, end, direction)
        how = calculation.of_sum(
            direction, total, missing, port.device.interval_s, reasons, speed, source, read.coarsest
        )
        calculations.append(CalculationOut(at=end, direction=direction, figure=how.figure, lines=how.lines))
    return calculations
