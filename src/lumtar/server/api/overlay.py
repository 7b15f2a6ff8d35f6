"""Transports in use: what each service class takes between two sites, why, whether another one would do better, and when that changed."""

from datetime import datetime, timedelta

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Query

from lumtar.domain.paths.models import Move
from lumtar.domain.reports import overlay, transport_moves
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.numbers import known
from lumtar.server.api.paths import Times
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import span

router = Router(tags=["paths"])
DAY = timedelta(days=1)


class WayOver(Schema):
    """A path over a transport in the last five minutes: milliseconds, per cent, and which targets it misses."""

    path_id: int
    transport_id: int
    transport: str
    provider: str
    is_used: bool
    is_measured: bool
    delay_ms: float | None
    jitter_ms: float | None
    loss_percent: float | None
    missed: list[str]


class ChoiceOut(Schema):
    """A service class that has several transports between two sites. ``why`` says how it is known which is used; ``advice`` what should be done."""

    site: str
    service_class: str
    why: str
    advice: str
    ways: list[WayOver]


@router.get("/overlay", needs=VIEWER, response=list[ChoiceOut])
def list_choices(request: HttpRequest) -> list[ChoiceOut]:
    """What is used now, those first that need something."""
    return [
        ChoiceOut(
            site=each.site, service_class=each.service_class, why=each.use.why if each.use else "",
            advice=each.advice, ways=[_way(member, each.use) for member in each.members],
        )
        for each in overlay.choices(timezone.now())
    ]  # fmt: skip


def _way(member: overlay.Member, use: overlay.Use | None) -> WayOver:
    transport = member.path.transport
    assert transport is not None
    return WayOver(
        path_id=member.path.pk, transport_id=transport.pk, transport=transport.name, provider=transport.provider,
        is_used=use is not None and use.transport == transport.pk, is_measured=member.is_measured, delay_ms=known(member.delay_ms),
        jitter_ms=known(member.jitter_ms), loss_percent=known(member.loss_percent), missed=member.missed,
    )  # fmt: skip


class MoveOut(Schema):
    """Traffic of a site, or one service class of it, took another transport from a time on, and why as far as it was seen."""

    id: int
    site: str
    service_class: str
    at: datetime
    from_transport: str
    to_transport: str
    why: str


class ComparedOut(Schema):
    """A service class in the quarter of an hour before and after a move: delay and jitter in milliseconds, per cent lost."""

    service_class: str
    path_id: int
    before: list[float | None]
    after: list[float | None]


@router.get("/overlay/moves", needs=VIEWER, response=list[MoveOut])
def list_moves(request: HttpRequest, query: Query[Times]) -> list[MoveOut]:
    """Moves of a time (without one the last day), newest first."""
    start, end = span(query.start, query.end, DAY)
    return [_move(row) for row in transport_moves.moves(start, end)]


def _move(row: Move) -> MoveOut:
    return MoveOut(
        id=row.pk, site=row.site.name, service_class=str(row.service_class or ""), at=row.at, from_transport=str(row.from_transport or ""), to_transport=str(row.to_transport),
        why=row.why,
    )  # fmt: skip


@router.get("/overlay/moves/{int:move}", needs=VIEWER, response=list[ComparedOut])
def compare_move(request: HttpRequest, move: int) -> list[ComparedOut]:
    """Each service class that moved, before it over the one transport, and after it over the other one."""
    row = get_object_or_404(Move, pk=move)
    return [
        ComparedOut(
            service_class=str(each.path.service_class),
            path_id=each.path.pk,
            before=_figures(each.before),
            after=_figures(each.after),
        )
        for each in transport_moves.around(row)
    ]


def _figures(told: overlay.Figures | None) -> list[float | None]:
    return [known(value) for value in told[:3]] if told else [None, None, None]
