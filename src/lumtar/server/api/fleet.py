"""Sites, devices and interfaces, with their series and their working."""

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

from django.http import HttpRequest, StreamingHttpResponse
from django.shortcuts import get_object_or_404
from ninja import Query, Router, Schema, Status

from lumtar.core import working
from lumtar.core.speeds import SpeedSource
from lumtar.core.text import csv_line
from lumtar.domain.inventory import description, queries
from lumtar.domain.inventory.models import Interface, InterfaceSpeed
from lumtar.domain.inventory.queries import PortRow
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings import series
from lumtar.domain.readings.series import Summary
from lumtar.server.api import paging
from lumtar.server.api.problems import Problem
from lumtar.server.api.times import past, span

router = Router(tags=["fleet"])


class SiteOut(Schema):
    """A site and how much is there; an empty name holds what has no site."""

    name: str
    devices: int
    ports: int


class Ports(Schema):
    """A page of interfaces."""

    rows: list[PortRow]
    total: int
    next: str | None


class PortFilter(Schema):
    """What of the interfaces to list, and in which order."""

    at: datetime | None = None
    site: str | None = None
    device: int | None = None
    words: str = ""
    state: str = ""
    sort: str = "name"
    limit: int = 200
    cursor: str | None = None
    start: int = 0


@router.get("/sites", response=list[SiteOut])
def sites(request: HttpRequest) -> list[SiteOut]:
    """All sites with their counts."""
    return [SiteOut(name=name, devices=devices, ports=ports) for name, devices, ports in queries.site_counts()]


@router.get("/interfaces", response=Ports)
def interfaces(request: HttpRequest, told: Query[PortFilter]) -> Ports:
    """Interfaces with their state, now or at a past time."""
    if told.sort not in queries.SORTS:
        raise Problem(422, f"There is no order {told.sort!r}; there are {', '.join(queries.SORTS)}.", "sort")
    start = paging.offset(told.cursor, told.start)
    rows, total = queries.ports(
        past(told.at),
        site=told.site,
        device=told.device,
        words=told.words,
        state=told.state,
        sort=told.sort,
        limit=max(1, min(told.limit, 2000)),
        offset=start,
    )
    return Ports(rows=rows, total=total, next=paging.following(start, len(rows), total))


class EntryOut(Schema):
    """A logbook entry."""

    id: int
    at: datetime
    kind: str
    by: str
    text: str
    device_id: int | None
    interface_id: int | None


@router.get("/logbook", response=list[EntryOut])
def logbook(
    request: HttpRequest,
    start: datetime | None = None,
    end: datetime | None = None,
    device: int | None = None,
    interface: int | None = None,
    limit: int = 100,
) -> list[EntryOut]:
    """What happened, newest first."""
    since, until = span(start, end, timedelta(days=1))
    found = Entry.objects.filter(at__gte=since, at__lt=until)
    if device is not None:
        found = found.filter(device_id=device)
    if interface is not None:
        found = found.filter(interface_id=interface)
    fields = tuple(EntryOut.model_fields)
    return [EntryOut(**entry) for entry in found.order_by("-at", "-id").values(*fields)[: max(1, min(limit, 500))]]


class SpeedOut(Schema):
    """Speeds in force from a time on, in bits per second."""

    since: datetime
    in_bps: int
    out_bps: int
    in_source: str
    out_source: str
    port_bps: int


def _speed(speed: InterfaceSpeed) -> SpeedOut:
    names = ("since", "in_bps", "out_bps", "in_source", "out_source", "port_bps")
    return SpeedOut(**{name: getattr(speed, name) for name in names})


class InterfaceOut(Schema):
    """An interface in full."""

    row: PortRow
    alias: str
    descr: str
    if_type: int
    mac: str
    interval_s: int
    first_seen: datetime
    gone_at: datetime | None
    speed: SpeedOut | None
    device_words: str


def _interface(number: int) -> Interface:
    return get_object_or_404(Interface.objects.select_related("device"), pk=number)


@router.get("/interfaces/{interface}", response=InterfaceOut)
def interface(request: HttpRequest, interface: int, at: datetime | None = None) -> InterfaceOut:
    """One interface, now or at a past time."""
    found = _interface(interface)
    moment = past(at)
    rows, _ = queries.ports(moment, only=[interface])
    if not rows:
        raise Problem(404, f"The device does not list this interface since {found.gone_at:%Y-%m-%d %H:%M} UTC.")
    until = moment or datetime.now(UTC)
    speeds = series.speeds(interface, until, until)
    device_row = queries.devices(moment, only=found.device_id)[0][0]
    return InterfaceOut(
        row=rows[0],
        alias=found.alias,
        descr=found.descr,
        if_type=found.if_type,
        mac=found.mac,
        interval_s=found.device.interval_s,
        first_seen=found.first_seen,
        gone_at=found.gone_at,
        speed=_speed(speeds[-1]) if speeds else None,
        device_words=device_row.reason,
    )


class SoldSpeed(Schema):
    """What a circuit is sold as, in bits per second; None is the port's own speed."""

    in_bps: int | None = None
    out_bps: int | None = None


@router.put("/interfaces/{interface}/speed", response={204: None})
def override_speed(request: HttpRequest, interface: int, told: SoldSpeed) -> Status[None]:
    """Measure a port against what is sold, from now on; what was measured before stays as it was."""
    try:
        description.override_speed(interface, told.in_bps, told.out_bps, request.user.get_username())
    except ValueError as error:
        raise Problem(422, str(error)) from error
    return Status(204, None)


class GapOut(Schema):
    """A gap and why."""

    start: datetime
    end: datetime | None
    reason: str
    words: str


class SeriesOut(Schema):
    """A chart: points, gaps with reasons, the speeds in force, restarts, and what is seen in figures."""

    source: str
    step_s: int
    at: list[int]
    in_bps: list[float | None]
    out_bps: list[float | None]
    in_max_bps: list[float | None]
    out_max_bps: list[float | None]
    errors: list[int]
    discards: list[int]
    inward: Summary
    outward: Summary
    measured: float
    restarts: list[int]
    gaps: list[GapOut]
    speeds: list[SpeedOut]


@router.get("/interfaces/{interface}/series", response=SeriesOut)
def interface_series(
    request: HttpRequest, interface: int, start: datetime | None = None, end: datetime | None = None, points: int = 800
) -> SeriesOut:
    """Rates over time; a step in which nothing was counted has none."""
    found = _interface(interface)
    since, until = span(start, end, timedelta(days=1))
    read = series.read(found, since, until, points)
    gaps = [
        GapOut(start=gap.start, end=gap.end, reason=gap.reason, words=gap.words)
        for gap in series.gaps(found.device_id, since, until)
    ]
    values = {name: getattr(read, name) for name in type(read).__dataclass_fields__}
    return SeriesOut(gaps=gaps, speeds=[_speed(speed) for speed in series.speeds(interface, since, until)], **values)


@router.get("/interfaces/{interface}/series.csv")
def interface_csv(
    request: HttpRequest, interface: int, start: datetime | None = None, end: datetime | None = None
) -> StreamingHttpResponse:
    """The same as CSV: times are the ends of steps, rates in bits per second, empty where there is none."""
    found = _interface(interface)
    read = series.read(found, *span(start, end, timedelta(days=1)), points=series.MOST_POINTS)

    def lines() -> Iterator[str]:
        yield csv_line(["end", "seconds", "in_bps", "out_bps", "in_max_bps", "out_max_bps", "errors", "discards"])
        columns = (read.in_bps, read.out_bps, read.in_max_bps, read.out_max_bps, read.errors, read.discards)
        for at, *values in zip(read.at, *columns, strict=True):
            told = ("" if value is None else value for value in values)
            yield csv_line([datetime.fromtimestamp(at, UTC).isoformat(), read.step_s, *told])

    answer = StreamingHttpResponse(lines(), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="interface-{interface}.csv"'
    return answer


class WorkingOut(Schema):
    """How a figure came about, in lines; ``at`` is the end of the reading."""

    at: datetime | None
    direction: str
    figure: str
    lines: list[str]


@router.get("/interfaces/{interface}/working", response=list[WorkingOut])
def interface_working(request: HttpRequest, interface: int, at: datetime) -> list[WorkingOut]:
    """The working of both directions' rates at a time."""
    found = _interface(interface)
    moment = past(at)
    assert moment is not None
    reading = series.reading_at(interface, moment)
    if reading is None:
        kept = series.is_raw_kept(moment)
        why = (
            "nothing was read within the hour after this time"
            if kept
            else "readings of this age are kept as hourly sums only"
        )
        return [
            WorkingOut(at=None, direction=direction, figure="no reading", lines=[why]) for direction in ("in", "out")
        ]
    speeds = series.speeds(interface, reading.at, reading.at)
    told = []
    for direction, octets in (("in", reading.in_octets), ("out", reading.out_octets)):
        speed = getattr(speeds[-1], f"{direction}_bps") if speeds else 0
        source = SpeedSource(getattr(speeds[-1], f"{direction}_source")) if speeds else SpeedSource.UNKNOWN
        how = working.of_rate(direction, found.if_index, octets, reading.elapsed_ms, reading.flags, speed, source)
        told.append(WorkingOut(at=reading.at, direction=direction, figure=how.figure, lines=how.lines))
    return told
