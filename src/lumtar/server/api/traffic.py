"""Traffic: who uses an interface, a device, a site or the network, for what, and how much of the counted octets flows explain."""

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any, Literal

import numpy as np
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Query, Status
from pydantic import ValidationError

from lumtar.core.refusal import Refusal
from lumtar.domain.flows import applications, prefix_tables, queries
from lumtar.domain.flows.asking import Asked, asked_of
from lumtar.domain.flows.models import Exporter
from lumtar.domain.flows.queries import Traffic
from lumtar.domain.inventory.models import Device, Group, Interface
from lumtar.domain.logbook.services import note_action
from lumtar.domain.reports import far_ends, flow_shares, traffic
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.files import table_file
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import span

router = Router(tags=["traffic"])
HOUR = timedelta(hours=1)


class TrafficFilters(Schema):
    """Which traffic: of an interface (one way of it or both), a device, the ports of a group, a site by its name, or all; and filters."""

    start: datetime | None = None
    end: datetime | None = None
    interface: int | None = None
    device: int | None = None
    group: int | None = None
    site: str = ""
    way: Literal["in", "out", ""] = ""
    application: int | None = None
    sender: str = ""
    receiver: str = ""
    address: str = ""
    port: int | None = None
    protocol: int | None = None
    dscp: int | None = None
    src_site: int | None = None
    dst_site: int | None = None
    system: int | None = None
    country: str = ""
    place: str = ""
    limit: int = 50

    @property
    def asked(self) -> Asked:
        """The question without its time."""
        given = self.model_dump(include=set(TrafficFilters.model_fields) - {"start", "end", "limit"})
        with refusing():
            return asked_of({name: str(value) for name, value in given.items() if value not in (None, "")})


class TrafficAsked(TrafficFilters):
    """By what traffic is put together; ``earlier_s`` compares with the time so many seconds before."""

    by: Literal[
        "application",
        "sender",
        "receiver",
        "conversation",
        "site",
        "port",
        "protocol",
        "DSCP",
        "AS",
        "country",
        "place",
    ] = "application"
    earlier_s: int = 0


class TrafficRow(Schema):
    """What is put together: octets, packets and flows in all, its mean rate and its share; ``filters`` narrow traffic to it.

    ``before`` is its octets in the time that was compared with; nothing if none was. ``where`` is latitude and longitude of a place.
    """

    name: str
    more: str
    filters: dict[str, str]
    octets: int
    packets: int
    flows: int
    bps: float
    percent: float
    before: int | None
    line: list[float]
    where: list[float] | None


class ExplainedOut(Schema):
    """Octets that flows explain of those that the interface counted; ``why`` not all of them."""

    octets: int
    of: int
    percent: float | None
    since: datetime
    until: datetime
    why: list[str]


class FilterOut(Schema):
    """A filter in force, by its name in the question, and in words."""

    name: str
    words: str


class TrafficOut(Schema):
    """Traffic over a time. Lines are bits per second of each step: of the largest rows, of all together, and as the interface counted.

    ``number`` is how many rows there are in all.
    """

    title: str
    filters: list[FilterOut]
    start: datetime
    end: datetime
    step_s: int
    at: list[float]
    rows: list[TrafficRow]
    number: int
    octets: int
    whole: list[float]
    counter: list[float | None] | None
    speed_bps: float | None
    explained: ExplainedOut | None


@router.get("/traffic", needs=VIEWER, response=TrafficOut)
def show_traffic(request: HttpRequest, query: Query[TrafficAsked]) -> TrafficOut:
    """Who uses it, for what; without times the last hour. ``earlier_s`` compares with the time so many seconds before.

    It ends where flows are complete: some minutes before now.
    """
    since, until = traffic.complete(*span(query.start, query.end, HOUR))
    asked = query.asked
    title, speed = title_of(query)
    with refusing():
        found, named, places = _read(asked, query, since, until, query.limit)
        before = _before(asked, query, found) if query.earlier_s else None
    explained, counter = traffic.explained(asked, found)
    seconds = max(1.0, (found.end - found.start).total_seconds())
    ends = np.minimum(
        found.start.timestamp() + found.step_s * np.arange(1, len(found.whole) + 1), found.end.timestamp()
    )
    # The last step may not be over yet.
    lasted = np.diff(np.concatenate(([found.start.timestamp()], ends)))
    return TrafficOut(
        title=title,
        filters=filters_of(query),
        start=found.start,
        end=found.end,
        step_s=found.step_s,
        at=ends.tolist(),
        rows=[
            TrafficRow(
                name=called.name,
                more=called.more,
                filters=called.filters,
                octets=row.octets,
                packets=row.packets,
                flows=row.flows,
                bps=8 * row.octets / seconds,
                percent=100 * row.octets / found.octets if found.octets else 0.0,
                before=None if before is None else before.get(row.key, 0),
                line=(8 * row.line / lasted).tolist() if len(row.line) else [],
                where=list(where) if where else None,
            )
            for row, called, where in zip(found.rows, named, places, strict=True)
        ],
        number=found.number,
        octets=found.octets,
        whole=(8 * found.whole / lasted).tolist(),
        counter=None
        if counter is None
        else [None if np.isnan(each) else each for each in (8 * counter / lasted).tolist()],
        speed_bps=speed,
        explained=ExplainedOut(
            octets=explained.octets,
            of=explained.of,
            percent=100 * explained.octets / explained.of if explained.of else None,
            since=explained.since,
            until=explained.until,
            why=explained.why,
        )
        if explained
        else None,
    )


def _read(
    asked: Asked, query: TrafficAsked, since: datetime, until: datetime, limit: int
) -> tuple[Traffic, list[traffic.Named], list[tuple[float, float] | None]]:
    if query.by in prefix_tables.TABLES:
        far = far_ends.read(asked, query.by, since, until, limit)
        return far.traffic, far.names, far.places
    found = queries.read(asked, query.by, since, until, limit)
    return found, traffic.names_of(query.by, found.rows), [None] * len(found.rows)


def _before(asked: Asked, query: TrafficAsked, found: Traffic) -> dict[tuple[int, ...], int]:
    earlier = timedelta(seconds=query.earlier_s)
    if query.by in prefix_tables.TABLES:
        return far_ends.before(asked, query.by, found, earlier)
    return queries.before(asked, query.by, found, earlier)


@router.get("/traffic/export", needs=VIEWER)
def export_traffic(
    request: HttpRequest, query: Query[TrafficAsked], format: Literal["csv", "parquet"] = "csv"
) -> HttpResponse:
    """The same rows as a file, the first 500; octets, packets and flows over the whole time."""
    since, until = traffic.complete(*span(query.start, query.end, HOUR))
    title_of(query)
    with refusing():
        found, named, _ = _read(query.asked, query, since, until, queries.MOST_ROWS)
    columns: dict[str, list[Any]] = {
        query.by: [each.name for each in named],
        "more": [each.more for each in named],
        **{name: [getattr(row, name) for row in found.rows] for name in ("octets", "packets", "flows")},
        "start": [found.start.isoformat()] * len(named),
        "end": [found.end.isoformat()] * len(named),
    }
    return table_file("traffic", format, columns)


def title_of(query: TrafficFilters) -> tuple[str, float | None]:
    """What is shown, and the speed of the interface."""
    if query.interface is not None:
        port = get_object_or_404(Interface.objects.select_related("device"), pk=query.interface)
        speed = port.speeds.order_by("-since").first()
        bps = None if speed is None else float(speed.out_bps if query.way == "out" else speed.in_bps) or None
        return f"{port.device} {port.label}", bps
    if query.device is not None:
        return str(get_object_or_404(Device, pk=query.device)), None
    if query.group is not None:
        return f"the group {get_object_or_404(Group, pk=query.group).name}", None
    return query.site or "the whole network", None


def filters_of(query: TrafficFilters) -> list[FilterOut]:
    """The filters in force, in words."""
    sites = traffic.site_names()
    words = {
        "way": query.way and f"{query.way}bound",
        "application": query.application is not None
        and applications.names().get(query.application, f"application {query.application}"),
        "sender": query.sender and f"from {query.sender}",
        "receiver": query.receiver and f"to {query.receiver}",
        "address": query.address and f"with {query.address}",
        "port": query.port is not None and f"port {query.port}",
        "protocol": query.protocol is not None and traffic.PROTOCOLS.get(query.protocol, f"protocol {query.protocol}"),
        "dscp": query.dscp is not None and f"DSCP {query.dscp}",
        "src_site": query.src_site is not None and f"from {sites.get(query.src_site, 'a site')}",
        "system": query.system is not None and f"AS{query.system}",
        "country": query.country and f"with {query.country}",
        "place": query.place and f"with {query.place}",
        "dst_site": query.dst_site is not None and f"to {sites.get(query.dst_site, 'a site')}",
    }
    return [FilterOut(name=name, words=str(text)) for name, text in words.items() if text]


def filters_in_words(filters: Mapping[str, str]) -> tuple[str, list[FilterOut]]:
    """Of what traffic is, and its filters, in words, from filters as they are kept.

    Raises
    ------
    Refusal
        if they are of something that there is not any more
    """
    try:
        query = TrafficFilters(**filters)  # type: ignore[arg-type]
        return title_of(query)[0], filters_of(query)
    except (ValidationError, Http404) as error:
        raise Refusal("what it is about is not there any more") from error


class ExporterOut(Schema):
    """Who sends flow records: how many, how many were lost on their way, and what it says of sampling.

    Without ``device_id`` it is not in the inventory, and what it sends is not added up. ``explained_percent`` is how much of what its ports counted in
    the last minutes flows explain.
    """

    id: int
    address: str
    protocol: str
    domain: int
    device_id: int | None
    device: str
    first_at: datetime
    last_at: datetime
    rate: float
    records: int
    datagrams: int
    lost: int
    no_template: int
    malformed: int
    skew_s: float
    explained_percent: float | None
    templates: int
    sampling: dict[str, int]
    usual_sampling: int | None


@router.get("/exporters", needs=VIEWER, response=list[ExporterOut])
def list_exporters(request: HttpRequest) -> list[ExporterOut]:
    """Everybody who sends flow records, strangers first."""
    rows = Exporter.objects.select_related("device").order_by("device__name", "address", "protocol", "domain")
    explained = flow_shares.by_device(timezone.now())
    found = [_exporter(each, explained.get(each.device_id or 0)) for each in rows]
    return sorted(found, key=lambda each: each.device_id is not None)


def _exporter(row: Exporter, explained: float | None = None) -> ExporterOut:
    same = (
        "id", "address", "protocol", "domain", "device_id", "first_at", "last_at", "rate", "records", "datagrams", "lost", "no_template",
        "malformed", "skew_s", "sampling", "usual_sampling",
    )  # fmt: skip
    return ExporterOut(
        device=str(row.device) if row.device else "",
        templates=len(row.templates),
        explained_percent=explained,
        **{name: getattr(row, name) for name in same},
    )


class SamplingIn(Schema):
    """One in so many packets; nothing: as the exporter says."""

    usual_sampling: int | None


@router.put("/exporters/{int:exporter}", needs=ENGINEER.everywhere, response=ExporterOut)
def set_sampling(request: HttpRequest, exporter: int, body: SamplingIn) -> Status[ExporterOut]:
    """Say how an exporter samples that does not say it itself; from now on."""
    row = get_object_or_404(Exporter.objects.select_related("device"), pk=exporter)
    if body.usual_sampling is not None and not 1 <= body.usual_sampling <= 10_000_000:
        raise Problem(422, "Sampling is one in 1 to 10,000,000 packets.", "usual_sampling")
    row.usual_sampling = body.usual_sampling
    row.save(update_fields=["usual_sampling"])
    words = f"1 in {body.usual_sampling}" if body.usual_sampling else "as it says itself"
    note_action(f"sampling of {row.address} set to {words}", request.user.get_username(), row.device)
    return Status(200, _exporter(row))
