"""Service classes and transports of paths: what is promised, and on whose lines."""

from decimal import Decimal
from typing import Any

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Status
from pydantic import Field

from lumtar.core.paths.promises import TARGETS
from lumtar.domain.inventory.models import Site
from lumtar.domain.paths import classes
from lumtar.domain.paths.models import ServiceClass, Transport
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["paths"])


class ServiceClassIn(Schema):
    """What is promised of some paths: by measure what is not exceeded, for which share of the time (per cent), in which hours (empty: always)."""

    name: str = Field(max_length=120)
    limits: dict[str, float] = Field(description=f"Measures that can be promised: {', '.join(TARGETS)}.")
    share: float = 99.0
    hours: str = Field("", max_length=300, description="Such as Mon-Fri 08:00-18:00.")
    zone: str = Field("UTC", max_length=60)


class ServiceClassOut(ServiceClassIn):
    """A service class; ``paths`` is how many have it."""

    id: int
    paths: int


@router.get("/service-classes", needs=VIEWER, response=list[ServiceClassOut])
def list_service_classes(request: HttpRequest) -> list[ServiceClassOut]:
    """All service classes."""
    return [_class(row) for row in ServiceClass.objects.prefetch_related("paths").order_by("name")]


def _class(row: ServiceClass) -> ServiceClassOut:
    same = ("name", "limits", "share", "hours", "zone")
    return ServiceClassOut(id=row.pk, paths=len(row.paths.all()), **{name: getattr(row, name) for name in same})


@router.post("/service-classes", needs=ENGINEER.everywhere, response={201: ServiceClassOut})
def make_service_class(request: HttpRequest, body: ServiceClassIn) -> Status[ServiceClassOut]:
    """A new service class; paths are put into it one by one."""
    return Status(201, _kept_class(request, ServiceClass(), body))


@router.put("/service-classes/{int:service_class}", needs=ENGINEER.everywhere, response=ServiceClassOut)
def change_service_class(request: HttpRequest, service_class: int, body: ServiceClassIn) -> ServiceClassOut:
    """Change what is promised, from now on; what was judged before stays as it was judged."""
    return _kept_class(request, get_object_or_404(ServiceClass, pk=service_class), body)


def _kept_class(request: HttpRequest, row: ServiceClass, body: ServiceClassIn) -> ServiceClassOut:
    for name, value in body.model_dump().items():
        setattr(row, name, value)
    with refusing():
        return _class(classes.keep_class(row, request.user.get_username()))


@router.delete("/service-classes/{int:service_class}", needs=ENGINEER.everywhere, response={204: None})
def delete_service_class(request: HttpRequest, service_class: int) -> Status[None]:
    """Promise it no longer; its paths are measured all the same."""
    get_object_or_404(ServiceClass, pk=service_class)
    classes.delete(ServiceClass, service_class, request.user.get_username())
    return Status(204, None)


class TransportIn(Schema):
    """A line of a provider: at which site, what was contracted (bits per second), and its price a month."""

    name: str = Field(max_length=120)
    provider: str = Field(max_length=120)
    site: str = ""
    down_bps: int | None = None
    up_bps: int | None = None
    price: float | None = None
    currency: str = Field("", max_length=3)


class TransportOut(TransportIn):
    """A transport, and its paths."""

    id: int
    paths: list[int]


@router.get("/transports", needs=VIEWER, response=list[TransportOut])
def list_transports(request: HttpRequest) -> list[TransportOut]:
    """All transports."""
    rows = Transport.objects.select_related("site").prefetch_related("paths").order_by("name")
    return [_transport(row) for row in rows]


def _transport(row: Transport) -> TransportOut:
    same = ("name", "provider", "down_bps", "up_bps", "currency")
    return TransportOut(
        id=row.pk, site=row.site.name if row.site else "", paths=[path.pk for path in row.paths.all()],
        price=None if row.price is None else float(row.price), **{name: getattr(row, name) for name in same},
    )  # fmt: skip


@router.post("/transports", needs=ENGINEER.everywhere, response={201: TransportOut})
def make_transport(request: HttpRequest, body: TransportIn) -> Status[TransportOut]:
    """A new transport; paths are put onto it one by one."""
    return Status(201, _kept_transport(request, Transport(), body))


@router.put("/transports/{int:transport}", needs=ENGINEER.everywhere, response=TransportOut)
def change_transport(request: HttpRequest, transport: int, body: TransportIn) -> TransportOut:
    """Change a transport."""
    return _kept_transport(request, get_object_or_404(Transport, pk=transport), body)


def _kept_transport(request: HttpRequest, row: Transport, body: TransportIn) -> TransportOut:
    given: dict[str, Any] = body.model_dump(exclude={"site", "price"})
    row.price = None if body.price is None else Decimal(f"{body.price:.2f}")
    for name, value in given.items():
        setattr(row, name, value)
    row.site = Site.objects.filter(name=body.site).first() if body.site else None
    if body.site and row.site is None:
        raise Problem(422, f"There is no site {body.site[:60]}.", "site")
    with refusing():
        return _transport(classes.keep_transport(row, request.user.get_username()))


@router.delete("/transports/{int:transport}", needs=ENGINEER.everywhere, response={204: None})
def delete_transport(request: HttpRequest, transport: int) -> Status[None]:
    """Delete a transport; its paths are measured all the same."""
    get_object_or_404(Transport, pk=transport)
    classes.delete(Transport, transport, request.user.get_username())
    return Status(204, None)
