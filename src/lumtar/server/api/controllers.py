"""Controllers: how each is asked, what they tell of, and members that become devices."""

from collections.abc import AsyncIterator
from dataclasses import asdict
from datetime import datetime
from typing import Any

from django.db.models import Count, Q
from django.http import HttpRequest, StreamingHttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Status
from pydantic import Field

from lumtar.core.controllers import ALARM, DEVICE, KINDS, TRANSPORT, TUNNEL
from lumtar.core.reach import PRIVATE
from lumtar.domain.controllers import members, services
from lumtar.domain.controllers.models import Controller, ControllerItem, ControllerProfile
from lumtar.domain.inventory.models import Credential
from lumtar.domain.logbook.services import note_action
from lumtar.server import limiting
from lumtar.server.api.access import ADMINISTRATOR, ENGINEER, VIEWER, Router
from lumtar.server.api.controller_profiles import ControllerProfileIn, parts
from lumtar.server.api.errands import done_by_a_collector
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.streaming import json_lines

router = Router(tags=["controllers"])
MOST_ITEMS = 5_000


class ControllerIn(Schema):
    """A controller. ``secret`` is what one signs in with, None to keep it; ``allowed`` are the addresses that members may have."""

    name: str = Field(max_length=120)
    base: str = Field(max_length=200)
    profile: int
    secret: dict[str, str] | None = None
    authority: str = ""
    credential: int | None = None
    allowed: str = Field(PRIVATE, max_length=4000)
    adds: bool = False
    port: int = 161
    every_s: int = 60
    enabled: bool = True


class ControllerOut(Schema):
    """A controller, how asking it went last, and how much it tells of."""

    id: int
    name: str
    base: str
    profile: int
    authority: str
    credential: int | None
    allowed: str
    adds: bool
    port: int
    every_s: int
    enabled: bool
    asked_at: datetime | None
    answered_at: datetime | None
    problem: str
    complaints: dict[str, list[str]]
    counts: dict[str, int]
    new_members: int
    missing_members: int


SAME = (
    "name", "base", "authority", "allowed", "adds", "port", "every_s", "enabled", "asked_at", "answered_at", "problem", "complaints",
)  # fmt: skip


def _controllers(where: Q) -> list[ControllerOut]:
    there = Q(items__gone_at=None)
    devices = there & Q(items__kind=DEVICE.name)
    counted = {
        f"n_{name}": Count("items", filter=there & Q(items__kind=name) & (Q(items__severity__gt=0) if name == ALARM.name else Q()))
        for name in KINDS
    }  # fmt: skip
    rows = Controller.objects.filter(where).annotate(
        **counted,
        new=Count("items", filter=devices & Q(items__device=None)),
        missing=Count("items", filter=devices & Q(items__missed__gt=0)),
    )
    return [
        ControllerOut(
            id=row.pk, profile=row.profile_id, credential=row.credential_id, new_members=row.new, missing_members=row.missing,
            counts={name: getattr(row, f"n_{name}") for name in KINDS}, **{name: getattr(row, name) for name in SAME},
        )
        for row in rows.order_by("name")
    ]  # fmt: skip


@router.get("/controllers", needs=VIEWER.everywhere, response=list[ControllerOut])
def list_controllers(request: HttpRequest) -> list[ControllerOut]:
    """All controllers."""
    return _controllers(Q())


@router.post("/controllers", needs=ADMINISTRATOR.everywhere, response={201: ControllerOut})
def make_controller(request: HttpRequest, body: ControllerIn) -> Status[ControllerOut]:
    """A new controller; it is asked at once."""
    return Status(201, _kept(request, Controller(), body))


@router.put("/controllers/{int:controller}", needs=ADMINISTRATOR.everywhere, response=ControllerOut)
def change_controller(request: HttpRequest, controller: int, body: ControllerIn) -> ControllerOut:
    """Change a controller; it is asked at once."""
    return _kept(request, get_object_or_404(Controller, pk=controller), body)


def _kept(request: HttpRequest, row: Controller, body: ControllerIn) -> ControllerOut:
    for name, value in body.model_dump(exclude={"profile", "credential", "secret"}).items():
        setattr(row, name, value)
    row.profile = _row(ControllerProfile, body.profile, "profile")
    row.credential = _row(Credential, body.credential, "credential") if body.credential else None
    with refusing():
        services.keep_controller(row, request.user.get_username(), body.secret)
    return _controllers(Q(pk=row.pk))[0]


def _row(model: Any, number: int, field: str) -> Any:
    row = model.objects.filter(pk=number).first()
    if row is None:
        raise Problem(422, f"There is no such {field}; it may have been deleted meanwhile.", field)
    return row


@router.delete("/controllers/{int:controller}", needs=ADMINISTRATOR.everywhere, response={204: None})
def delete_controller(request: HttpRequest, controller: int) -> Status[None]:
    """Ask a controller no more, and forget what it told; its members stay devices."""
    get_object_or_404(Controller, pk=controller)
    services.delete_controller(controller, request.user.get_username())
    return Status(204, None)


@router.post("/controllers/{int:controller}/ask", needs=ENGINEER.everywhere, response={204: None})
def ask_controller(request: HttpRequest, controller: int) -> Status[None]:
    """Ask it now, not when it is due."""
    row = get_object_or_404(Controller, pk=controller)
    Controller.objects.filter(pk=row.pk).update(asked_at=None)
    note_action(f"controller {row} asked", request.user.get_username())
    return Status(204, None)


class ControllerTrialIn(ControllerProfileIn):
    """A controller and a profile, neither of which has to be kept; without ``secret`` that of ``controller`` is taken, at its own address."""

    name: str = ""
    base: str = Field(max_length=200)
    authority: str = ""
    secret: dict[str, str] | None = None
    controller: int | None = None


@router.post("/controllers/try", needs=ADMINISTRATOR.everywhere)
def try_controller(request: HttpRequest, body: ControllerTrialIn) -> StreamingHttpResponse:
    """Ask for every list once: a line each, with its first rows and what was wrong with others (application/x-ndjson)."""
    limiting.TRIES.take(request.user.get_username())
    limiting.TRIES.take()
    with refusing():
        sign_in, lists = services.checked(*parts(body))
        base, secret = services.check_base(body.base), body.secret
        if secret is None:
            known = Controller.objects.filter(pk=body.controller or 0, base=base).first()
            secret = services.secret_of(known) if known else {}
        secret = services.check_secret(sign_in.way, secret)
    wanted = {
        "base": base, "sign_in": asdict(sign_in), "secret": secret, "authority": body.authority,
        "lists": {name: asdict(listing) for name, listing in lists.items()},
    }  # fmt: skip

    async def lines() -> AsyncIterator[dict[str, Any]]:
        limiting.TRYING.take()
        try:
            async for line in done_by_a_collector("controller", wanted):
                yield line
        finally:
            limiting.TRYING.leave()

    return json_lines(lines())


class ControllerItemOut(Schema):
    """Something that a controller tells of. ``words`` is why a member is no device; ``about`` what an alarm is about."""

    id: int
    controller: int
    kind: str
    name: str
    facts: dict[str, str]
    up: bool | None
    device: int | None
    device_name: str
    interface: int | None
    about: str
    severity: int
    words: str
    since: datetime
    seen_at: datetime
    missed: int
    gone_at: datetime | None


@router.get("/controllers/{int:controller}/items", needs=VIEWER.everywhere, response=list[ControllerItemOut])
def list_controller_items(request: HttpRequest, controller: int, kind: str = DEVICE.name) -> list[ControllerItemOut]:
    """What it tells of, of one kind; what is not told of any more comes last."""
    row = get_object_or_404(Controller, pk=controller)
    if kind not in KINDS:
        raise Problem(422, f"There is no list {kind[:60]}; there are {', '.join(KINDS)}.", "kind")
    items = ControllerItem.objects.filter(controller=row, kind=kind).select_related("device", "about")
    order = ("-severity", "gone_at", "-since") if kind == ALARM.name else ("gone_at", "up", "name")
    return [_item(row, each) for each in items.order_by(*order)[:MOST_ITEMS]]


@router.get("/controller-items/{int:item}", needs=VIEWER.everywhere, response=ControllerItemOut)
def show_controller_item(request: HttpRequest, item: int) -> ControllerItemOut:
    """One of them: what an alarm about it leads to."""
    row = get_object_or_404(ControllerItem.objects.select_related("controller", "device", "about"), pk=item)
    return _item(row.controller, row)


def _item(controller: Controller, item: ControllerItem) -> ControllerItemOut:
    words = item.words
    if item.kind == DEVICE.name and item.device is None and item.gone_at is None:
        words = members.why_not(controller, item) or words
    return ControllerItemOut(
        id=item.pk, controller=controller.pk, device=item.device_id, device_name=item.device.name if item.device else "", interface=item.interface_id,
        about=f"{item.about.kind} {item.about}" if item.about else "", words=words if item.device is None else "",
        **{name: getattr(item, name) for name in ("kind", "name", "facts", "up", "severity", "since", "seen_at", "missed", "gone_at")},
    )  # fmt: skip


class TunnelOut(Schema):
    """A tunnel that a controller tells of: its two ends as devices and sites, the port that carries it, the transport beneath, its state now."""

    id: int
    name: str
    device_id: int | None
    site_id: int | None
    peer_id: int | None
    peer_site_id: int | None
    interface_id: int | None
    port: str
    transport: str
    up: bool | None
    state: str
    since: datetime


@router.get("/tunnels", needs=VIEWER, response=list[TunnelOut])
def list_tunnels(request: HttpRequest) -> list[TunnelOut]:
    """All tunnels that controllers tell of now, those that are down first."""
    items = ControllerItem.objects.filter(gone_at=None, controller__enabled=True)
    names = {
        (controller, word): name
        for controller, key, name in items.filter(kind=TRANSPORT.name).values_list("controller_id", "key", "name")
        for word in (key, name)
    }
    columns = (
        "pk", "name", "device_id", "device__site_id", "peer_id", "peer__site_id", "interface_id", "interface__label", "up", "since",
        "facts__state", "facts__transport", "controller_id",
    )  # fmt: skip
    rows = items.filter(kind=TUNNEL.name).order_by("up", "name").values_list(*columns)
    return [
        TunnelOut(
            id=pk, name=name, device_id=device, site_id=site, peer_id=peer, peer_site_id=peer_site, interface_id=interface,
            port=label or "", transport=names.get((controller, transport), transport or ""), up=up, state=state or "", since=since,
        )
        for pk, name, device, site, peer, peer_site, interface, label, up, since, state, transport, controller in rows
    ]  # fmt: skip


class ControllerMembersIn(Schema):
    """Which members become devices; None is all."""

    items: list[int] | None = Field(None, max_length=5000)


class ControllerMembersOut(Schema):
    """How many were added, and of the others why not."""

    added: int
    left: dict[str, str]


@router.post("/controllers/{int:controller}/members", needs=ENGINEER.everywhere, response=ControllerMembersOut)
def add_members(request: HttpRequest, controller: int, body: ControllerMembersIn) -> ControllerMembersOut:
    """Make devices of members, polled by the controller's credential."""
    row = get_object_or_404(Controller.objects.select_related("credential"), pk=controller)
    only = None if body.items is None else set(body.items)
    added = members.add_new(row, timezone.now(), only, request.user.get_username())
    left = [item for item in members.new_members(row) if only is None or item.pk in only]
    return ControllerMembersOut(added=len(added), left={item.name: item.words for item in left})
