"""Paths: what their probes come to, and setting them up."""

import asyncio
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any, Literal, TypeVar

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Query, Status
from pydantic import Field, IPvAnyAddress

from lumtar.core.measures import MEASURES
from lumtar.core.measures.paths import PATH
from lumtar.core.paths.kinds import PARTS
from lumtar.domain.inventory.models import Device, Site
from lumtar.domain.paths import judging, levels, services, store
from lumtar.domain.paths.models import Path, ServiceClass, Transport
from lumtar.domain.reports import path_frames
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.answers import as_it_is
from lumtar.server.api.errands import done_by_a_collector
from lumtar.server.api.numbers import known, known_values
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.rule_levels import RuleLevel, levels_of
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past, span

router = Router(tags=["paths"])
HOUR = timedelta(hours=1)
PIECES = 6
"""Figures of a time are put together from no fewer intervals."""
AT_ONCE = 2_000
NEIGHBOURS = ("from_site", "to_site", "service_class", "transport__interface__device", "device")
SHOWN = tuple(name for name, measure in MEASURES.items() if measure.subject == PATH)


class PathIn(Schema):
    """A path: which prober measures it, between which sites, whom it asks, and how: DSCP, octets of a test packet, milliseconds between two.

    ``kind`` is how: stamp, icmp, udp, tcp, dns or http. DNS and HTTP ask for something (films.example A; https://films.example/), and something may be
    expected in the answer; HTTP needs no address. With the kind device it is ``device`` that measures, by a test of its own: owner/name.
    """

    name: str = Field(max_length=120)
    prober: str = Field("prober", max_length=120)
    from_site: str = ""
    to_site: str = ""
    service_class: str = ""
    transport: str = ""
    device: int | None = None
    groups: list[str] = []
    kind: str = "stamp"
    address: IPvAnyAddress | Literal[""] = ""
    port: int = 862
    asked: str = Field("", max_length=300)
    expected: str = Field("", max_length=200)
    verifies: bool = Field(True, description="Whether a certificate has to be one that the prober's machine trusts.")
    dscp: int = 0
    octets: int = 100
    every_ms: int = 1000
    traces: bool = Field(False, description="Whether its route is looked at once a minute.")
    enabled: bool = True


class Figures(Schema):
    """What probes came to over a time: milliseconds, per cent lost, and an opinion score; nothing is not known."""

    sent: int
    lost: int
    path_delay: float | None
    path_delay_95: float | None
    path_variation: float | None
    path_jitter: float | None
    path_loss: float | None
    path_burst: float | None
    path_mos: float | None
    path_failed: float | None
    path_lookup: float | None
    path_connected: float | None
    path_secured: float | None
    path_first_octet: float | None
    path_certificate: float | None
    path_missed: float | None
    path_burn: float | None


NOTHING: dict[str, Any] = {"sent": 0, "lost": 0, **dict.fromkeys(SHOWN)}


class PathOut(Schema):
    """A path with its figures over the time that was asked for, and the levels of rules about it.

    ``interface`` is the port that its transport is connected to; ``problem`` is why it cannot be probed, has no answer, or not the
    right one.
    """

    id: int
    name: str
    prober: str
    from_site: str
    to_site: str
    service_class: str
    transport: str
    provider: str
    interface: int | None
    port_label: str
    device: int | None
    device_name: str
    groups: list[str]
    kind: str
    address: str
    port: int
    asked: str
    expected: str
    verifies: bool
    dscp: int
    octets: int
    every_ms: int
    traces: bool
    enabled: bool
    since: datetime
    problem: str
    figures: Figures
    limits: list[RuleLevel]


class Times(Schema):
    """A time; without it the last hour."""

    start: datetime | None = None
    end: datetime | None = None


@router.get("/paths", needs=VIEWER, response=list[PathOut])
def list_paths(request: HttpRequest, query: Query[Times]) -> HttpResponse:
    """All paths, with the longest delay first."""
    start, end = span(query.start, query.end, HOUR)
    rows = list(Path.objects.select_related(*NEIGHBOURS).order_by("name"))
    limits, figures = levels_of(PATH, SHOWN), _figures([row.pk for row in rows], start, end)
    told = [_told(row, figures.get(row.pk, NOTHING), limits.get(row.pk, [])) for row in rows]
    return as_it_is(sorted(told, key=lambda each: -(each["figures"]["path_delay_95"] or -1.0)))


def _path(row: Path, figures: dict[str, Any], limits: list[RuleLevel]) -> PathOut:
    return PathOut(**_told(row, figures, limits))


def _told(row: Path, figures: dict[str, Any], limits: list[RuleLevel]) -> dict[str, Any]:
    same = (
        "name", "prober", "kind", "port", "asked", "expected", "verifies", "dscp", "octets", "every_ms", "traces", "enabled", "since", "problem", "groups",
    )  # fmt: skip
    return dict(
        id=row.pk, from_site=row.from_site.name if row.from_site else "", to_site=row.to_site.name if row.to_site else "",
        service_class=row.service_class.name if row.service_class else "", transport=row.transport.name if row.transport else "",
        provider=row.transport.provider if row.transport else "", device=row.device_id, device_name=row.device.name if row.device else "",
        interface=row.transport.interface_id if row.transport else None, port_label=_port_label(row),
        address=row.address or "", figures=figures, limits=limits, **{name: getattr(row, name) for name in same},
    )  # fmt: skip


def _port_label(row: Path) -> str:
    port = row.transport.interface if row.transport else None
    return f"{port.device.name} {port.label or port.name}" if port else ""


def _figures(paths: Sequence[int], start: datetime, end: datetime) -> dict[int, dict[str, Any]]:
    """Of each path what its probes came to over a time."""
    step = (end - start).total_seconds() / PIECES
    # Some at once, so that there is room for thousands of paths over a year.
    parts = [
        store.joined(levels.read_span(paths[place : place + AT_ONCE], start, end, step))
        for place in range(0, len(paths), AT_ONCE)
    ]
    whole = np.concatenate(parts or [np.zeros(0, store.ROW)])
    frame = judging.frame_of(whole)
    values = {name: known_values(MEASURES[name].of(frame)) for name in SHOWN}
    return {
        path: {"sent": sent, "lost": lost, **{name: values[name][at] for name in SHOWN}}
        for at, (path, sent, lost) in enumerate(whole[["path", "sent", "lost"]].tolist())
    }


class NearOut(Schema):
    """A path and the target that it is nearest to; ``share`` is how much of the limit is reached (1 is all of it; nothing if nobody answers)."""

    id: int
    name: str
    service_class: str
    measure: str
    value: float | None
    limit: float
    share: float | None


@router.get("/paths/nearest", needs=VIEWER, response=list[NearOut])
def list_nearest(request: HttpRequest, at: datetime | None = None, limit: int = 6) -> list[NearOut]:
    """The paths that were nearest to missing what is promised in the last five minutes, or in those before a past time."""
    found = path_frames.nearest(past(at) or timezone.now(), max(1, min(limit, 100)))
    rows = Path.objects.select_related("service_class").in_bulk([each.path for each in found])
    return [
        NearOut(
            id=each.path, name=rows[each.path].name, service_class=str(rows[each.path].service_class), measure=each.measure,
            value=known(each.value), limit=each.limit, share=known(each.share),
        )
        for each in found
    ]  # fmt: skip


class Course(Schema):
    """A path over a time, an interval in each place; ``at`` is its begin, times are milliseconds, nothing is not known."""

    path: PathOut
    start: datetime
    end: datetime
    step_s: int
    at: list[float]
    sent: list[int]
    lost: list[int]
    wrong: list[int]
    duplicates: list[int]
    reordered: list[int]
    longest_burst: list[int]
    least: list[float | None]
    p5: list[float | None]
    p25: list[float | None]
    p50: list[float | None]
    p75: list[float | None]
    p95: list[float | None]
    longest: list[float | None]
    variation: list[float | None]
    jitter: list[float | None]
    out: list[float | None]
    back: list[float | None]
    lookup: list[float | None]
    connected: list[float | None]
    secured: list[float | None]
    first_octet: list[float | None]
    mos: list[float | None]


@router.get("/paths/{int:path}", needs=VIEWER, response=Course)
def show_path(request: HttpRequest, path: int, query: Query[Times]) -> Course:
    """A path over a time: the distribution of round trips, loss and its bursts, variation, and each direction as far as clocks tell it."""
    row = get_object_or_404(Path.objects.select_related(*NEIGHBOURS), pk=path)
    start, end = span(query.start, query.end, HOUR)
    step = levels.width_of(start, end)
    rows = levels.drawn(levels.read_span([row.pk], start, end, step), step)
    times = (*store.TRIPS, "variation", "jitter", "out", "back", *PARTS)
    counts = ("sent", "lost", "wrong", "duplicates", "reordered", "longest_burst")
    columns: dict[str, Any] = {name: rows[name].tolist() for name in counts}
    columns |= {name: known_values(rows[name] / 1000) for name in times}
    return Course(
        path=_path(row, _figures([row.pk], start, end).get(row.pk, NOTHING), levels_of(PATH, SHOWN).get(row.pk, [])),
        start=start,
        end=end,
        step_s=step,
        at=rows["at"].tolist(),
        mos=known_values(MEASURES["path_mos"].of(judging.plain_frame(rows))),
        **columns,
    )


class DeviceTestOut(Schema):
    """A test that a device makes itself: whose, its name, whom it asks, and how many probes the device remembers."""

    owner: str
    name: str
    target: str
    remembers: int


class DeviceTestsOut(Schema):
    """The tests of a device; ``fault`` says why they cannot be read."""

    tests: list[DeviceTestOut]
    fault: str


@router.get("/devices/{int:device}/tests", needs=ENGINEER.everywhere, response=DeviceTestsOut)
def list_device_tests(request: HttpRequest, device: int) -> DeviceTestsOut:
    """The tests that a device makes itself (RFC 4560), as it tells of them now."""
    row = get_object_or_404(Device.objects.select_related("credential"), pk=device)
    if row.credential is None:
        raise Problem(422, f"{row.name} is not watched by SNMP.", "device")
    asked = {"address": row.address, "port": row.port, "credentials": [row.credential.pk]}

    async def first() -> dict[str, Any]:
        async for line in done_by_a_collector("tests", asked):
            return line
        raise Problem(503, "The collector ended while it was at it. Try again.")

    return DeviceTestsOut(**asyncio.run(first()))


class TracedRouteOut(Schema):
    """A route that was traced: addresses of its hops, the nearest first (empty: it did not answer), from when on, and when it was seen last."""

    hops: list[str]
    since: datetime
    seen_at: datetime


@router.get("/paths/{int:path}/routes", needs=VIEWER, response=list[TracedRouteOut])
def list_routes(request: HttpRequest, path: int, query: Query[Times]) -> list[TracedRouteOut]:
    """The routes of a path within a time, the newest first."""
    row = get_object_or_404(Path, pk=path)
    start, end = span(query.start, query.end, HOUR)
    found = row.routes.filter(since__lt=end, seen_at__gte=start).order_by("-since")[:100]
    return [TracedRouteOut(hops=each.hops, since=each.since, seen_at=each.seen_at) for each in found]


@router.post("/paths", needs=ENGINEER.everywhere, response={201: PathOut})
def make_path(request: HttpRequest, body: PathIn) -> Status[PathOut]:
    """Measure a path from now on."""
    row = _kept(request, Path(since=timezone.now()), body)
    return Status(201, row)


@router.put("/paths/{int:path}", needs=ENGINEER.everywhere, response=PathOut)
def change_path(request: HttpRequest, path: int, body: PathIn) -> PathOut:
    """Change a path; what was measured of it stays."""
    return _kept(request, get_object_or_404(Path, pk=path), body)


def _kept(request: HttpRequest, row: Path, body: PathIn) -> PathOut:
    for name, value in body.model_dump(
        exclude={"from_site", "to_site", "address", "service_class", "transport", "device"}
    ).items():
        setattr(row, name, value)
    row.address = str(body.address) or None
    row.from_site, row.to_site = (_named(Site, getattr(body, name), name) for name in ("from_site", "to_site"))
    row.service_class = _named(ServiceClass, body.service_class, "service_class")
    row.transport = _named(Transport, body.transport, "transport")
    row.device = Device.objects.filter(pk=body.device).first() if body.device else None
    with refusing():
        services.keep(row, request.user.get_username())
    return _path(row, NOTHING, levels_of(PATH, SHOWN).get(row.pk, []))


Named = TypeVar("Named", Site, ServiceClass, Transport)


def _named(kind: type[Named], name: str, field: str) -> Named | None:
    if not name:
        return None
    found = kind._default_manager.filter(name=name).first()
    if found is None:
        raise Problem(422, f"There is no {kind._meta.verbose_name} {name[:60]}.", field)
    return found


@router.delete("/paths/{int:path}", needs=ENGINEER.everywhere, response={204: None})
def delete_path(request: HttpRequest, path: int) -> Status[None]:
    """Measure a path no longer."""
    get_object_or_404(Path, pk=path)
    services.delete(path, request.user.get_username())
    return Status(204, None)
