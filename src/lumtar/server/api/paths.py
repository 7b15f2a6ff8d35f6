"""Paths: what their probes come to, and setting them up."""

from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Query, Status
from pydantic import Field, IPvAnyAddress

from lumtar.core.measures import MEASURES
from lumtar.core.measures.paths import PATH
from lumtar.domain.alarms.rules import in_force
from lumtar.domain.inventory.asking import subjects_for
from lumtar.domain.inventory.models import Site
from lumtar.domain.paths import services, store
from lumtar.domain.paths.models import Path
from lumtar.domain.readings import bulk
from lumtar.domain.reports import path_frames
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import span

router = Router(tags=["paths"])
HOUR = timedelta(hours=1)
SHOWN = tuple(name for name, measure in MEASURES.items() if measure.subject == PATH)


class PathIn(Schema):
    """A path: which prober measures it, between which sites, whom it asks, and how: DSCP, octets of a test packet, milliseconds between two."""

    name: str = Field(max_length=120)
    prober: str = Field("prober", max_length=120)
    from_site: str = ""
    to_site: str = ""
    address: IPvAnyAddress
    port: int = 862
    dscp: int = 0
    octets: int = 100
    every_ms: int = 1000
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


class PathLimit(Schema):
    """A level of a rule about a measure of the path."""

    rule_id: int
    rule: str
    severity: int
    measure: str
    direction: str
    limit: float


class PathOut(Schema):
    """A path with its figures over the time that was asked for, and the levels of rules about it. ``problem`` is why it cannot be probed."""

    id: int
    name: str
    prober: str
    from_site: str
    to_site: str
    address: str
    port: int
    dscp: int
    octets: int
    every_ms: int
    enabled: bool
    since: datetime
    problem: str
    figures: Figures
    limits: list[PathLimit]


class Times(Schema):
    """A time; without it the last hour."""

    start: datetime | None = None
    end: datetime | None = None


@router.get("/paths", needs=VIEWER, response=list[PathOut])
def list_paths(request: HttpRequest, query: Query[Times]) -> list[PathOut]:
    """All paths, with the longest delay first."""
    start, end = span(query.start, query.end, HOUR)
    rows = list(Path.objects.select_related("from_site", "to_site").order_by("name"))
    found = np.concatenate(store.read_level([row.pk for row in rows], start, end))
    limits = _limits()
    parts, nothing = dict(bulk.groups(found, "path")), np.zeros(0, store.ROW)
    told = [_path(row, parts.get(row.pk, nothing), limits.get(row.pk, [])) for row in rows]
    return sorted(told, key=lambda each: -(each.figures.path_delay_95 or -1.0))


def _limits() -> dict[int, list[PathLimit]]:
    found: dict[int, list[PathLimit]] = {}
    for rule in in_force():
        if rule.measure not in SHOWN or rule.reference:
            continue
        for path in subjects_for(PATH, rule.scope):
            found.setdefault(path, []).extend(
                PathLimit(
                    rule_id=rule.pk, rule=rule.name, severity=each["severity"], measure=rule.measure,
                    direction=rule.direction, limit=each["limit"],
                )
                for each in rule.levels
            )  # fmt: skip
    return found


def _path(row: Path, rows: store.Rows, limits: list[PathLimit]) -> PathOut:
    same = ("name", "prober", "address", "port", "dscp", "octets", "every_ms", "enabled", "since", "problem")
    return PathOut(
        id=row.pk, from_site=row.from_site.name if row.from_site else "", to_site=row.to_site.name if row.to_site else "",
        figures=_figures(rows), limits=limits, **{name: getattr(row, name) for name in same},
    )  # fmt: skip


def _figures(rows: store.Rows) -> Figures:
    if not len(rows):
        return Figures(sent=0, lost=0, **dict.fromkeys(SHOWN))
    whole = np.array([store.joined(rows, float(rows["at"][0]))], store.ROW)
    frame = path_frames.frame_of(whole)
    values = {name: float(MEASURES[name].of(frame)[0]) for name in SHOWN}
    return Figures(
        sent=int(whole["sent"][0]),
        lost=int(whole["lost"][0]),
        **{name: None if np.isnan(value) else value for name, value in values.items()},
    )


class Course(Schema):
    """A path over a time, an interval in each place; ``at`` is its begin, times are milliseconds, nothing is not known."""

    path: PathOut
    start: datetime
    end: datetime
    step_s: int
    at: list[float]
    sent: list[int]
    lost: list[int]
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
    mos: list[float | None]


@router.get("/paths/{int:path}", needs=VIEWER, response=Course)
def show_path(request: HttpRequest, path: int, query: Query[Times]) -> Course:
    """A path over a time: the distribution of round trips, loss and its bursts, variation, and each direction as far as clocks tell it."""
    row = get_object_or_404(Path.objects.select_related("from_site", "to_site"), pk=path)
    start, end = span(query.start, query.end, HOUR)
    rows, step = store.course(row.pk, start, end)
    times = (*store.TRIPS, "variation", "jitter", "out", "back")
    counts = ("sent", "lost", "duplicates", "reordered", "longest_burst")
    columns: dict[str, Any] = {name: rows[name].tolist() for name in counts}
    columns |= {name: _known(rows[name] / 1000) for name in times}
    return Course(
        path=_path(row, rows, _limits().get(row.pk, [])),
        start=start,
        end=end,
        step_s=step,
        at=rows["at"].tolist(),
        mos=_known(MEASURES["path_mos"].of(path_frames.frame_of(rows))),
        **columns,
    )


def _known(values: np.ndarray) -> list[float | None]:
    return [None if np.isnan(each) else each for each in values.tolist()]


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
    for name, value in body.model_dump(exclude={"from_site", "to_site", "address"}).items():
        setattr(row, name, value)
    row.address = str(body.address)
    row.from_site, row.to_site = _site(body.from_site, "from_site"), _site(body.to_site, "to_site")
    with refusing():
        services.keep(row, request.user.get_username())
    return _path(row, np.zeros(0, store.ROW), _limits().get(row.pk, []))


def _site(name: str, field: str) -> Site | None:
    if not name:
        return None
    found = Site.objects.filter(name=name).first()
    if found is None:
        raise Problem(422, f"There is no site {name[:60]}.", field)
    return found


@router.delete("/paths/{int:path}", needs=ENGINEER.everywhere, response={204: None})
def delete_path(request: HttpRequest, path: int) -> Status[None]:
    """Measure a path no longer."""
    get_object_or_404(Path, pk=path)
    services.delete(path, request.user.get_username())
    return Status(204, None)
