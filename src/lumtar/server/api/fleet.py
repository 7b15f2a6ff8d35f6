"""Sites and interfaces as they are, now or at a past time."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Query, Status

from lumtar.core.ethernet import DUPLEX
from lumtar.domain.inventory import description
from lumtar.domain.inventory.models import Interface, InterfaceSpeed
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings import series
from lumtar.domain.reports import devices, ports
from lumtar.domain.reports.ports import PortRow
from lumtar.server.api import paging
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.answers import as_it_is
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.scope import ScopeIn
from lumtar.server.api.times import past, span

router = Router(tags=["fleet"])


class SiteOut(Schema):
    """A site and how much is there; an empty name holds what has no site."""

    name: str
    devices: int
    ports: int


@dataclass(slots=True)
class Ports:
    """A page of interfaces."""

    rows: list[PortRow]
    total: int
    next: str | None


class PortFilter(ScopeIn):
    """What of the interfaces to list, and in which order."""

    at: datetime | None = None
    state: str = ""
    sort: str = "name"
    limit: int = 200
    cursor: str | None = None
    start: int = 0


@router.get("/sites", needs=VIEWER, response=list[SiteOut])
def sites(request: HttpRequest, at: datetime | None = None) -> list[SiteOut]:
    """All sites with their counts, now or at a past time."""
    return [SiteOut(name=name, devices=boxes, ports=number) for name, boxes, number in devices.site_counts(past(at))]


@router.get("/interfaces", needs=VIEWER, response=Ports)
def interfaces(request: HttpRequest, query: Query[PortFilter]) -> HttpResponse:
    """Interfaces with their state, now or at a past time."""
    if query.sort not in ports.SORTS:
        raise Problem(422, f"There is no order {query.sort!r}; there are {', '.join(ports.SORTS)}.", "sort")
    start = paging.offset(query.cursor, query.start)
    rows, total = ports.find(
        past(query.at),
        query.scope,
        state=query.state,
        sort=query.sort,
        limit=max(1, min(query.limit, 2000)),
        offset=start,
    )
    return as_it_is(Ports(rows=rows, total=total, next=paging.following(start, len(rows), total)))


class EntryOut(Schema):
    """A logbook entry."""

    id: int
    at: datetime
    kind: str
    by: str
    text: str
    device_id: int | None
    interface_id: int | None


@router.get("/logbook", needs=VIEWER, response=list[EntryOut])
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
    entries = Entry.objects.filter(at__gte=since, at__lt=until)
    if device is not None:
        entries = entries.filter(device_id=device)
    if interface is not None:
        entries = entries.filter(interface_id=interface)
    fields = tuple(EntryOut.model_fields)
    return [EntryOut(**entry) for entry in entries.order_by("-at", "-id").values(*fields)[: max(1, min(limit, 500))]]


class SpeedOut(Schema):
    """Speeds in force from a time on, in bits per second."""

    since: datetime
    in_bps: int
    out_bps: int
    in_source: str
    out_source: str
    port_bps: int


def speed_out(speed: InterfaceSpeed) -> SpeedOut:
    """A speed for an answer."""
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
    duplex: str
    speed: SpeedOut | None
    device_words: str


def interface_called(number: int) -> Interface:
    """An interface with its device; 404 if it is not there."""
    return get_object_or_404(Interface.objects.select_related("device"), pk=number)


@router.get("/interfaces/{interface}", needs=VIEWER, response=InterfaceOut)
def interface(request: HttpRequest, interface: int, at: datetime | None = None) -> InterfaceOut:
    """One interface, now or at a past time."""
    port = interface_called(interface)
    moment = past(at)
    rows, _ = ports.find(moment, only=[interface])
    if not rows:
        raise Problem(404, f"The device does not list this interface since {port.gone_at:%Y-%m-%d %H:%M} UTC.")
    until = moment or datetime.now(UTC)
    speed = series.speed_at(interface, until)
    device_row = devices.find(moment, only=port.device_id)[0][0]
    return InterfaceOut(
        row=rows[0],
        alias=port.alias,
        descr=port.descr,
        if_type=port.if_type,
        mac=port.mac,
        interval_s=port.device.interval_s,
        first_seen=port.first_seen,
        gone_at=port.gone_at,
        duplex=DUPLEX.get(port.duplex, ""),
        speed=speed_out(speed) if speed else None,
        device_words=device_row.reason,
    )


class SoldSpeed(Schema):
    """What a circuit is sold as, in bits per second; None is the port's own speed."""

    in_bps: int | None = None
    out_bps: int | None = None


@router.put("/interfaces/{interface}/speed", needs=ENGINEER, response={204: None})
def override_speed(request: HttpRequest, interface: int, body: SoldSpeed) -> Status[None]:
    """Measure a port against what is sold, from now on; what was measured before stays as it was."""
    with refusing():
        description.override_speed(interface, body.in_bps, body.out_bps, request.user.get_username())
    return Status(204, None)
