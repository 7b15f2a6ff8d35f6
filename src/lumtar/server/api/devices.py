"""Devices: listed, looked at, added, changed, polled now, retired, deleted."""

from collections.abc import Callable
from datetime import datetime, timedelta

from django.db.models import Q
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Status

from lumtar.core.components import KINDS
from lumtar.domain.inventory import polling, refreshes, services
from lumtar.domain.inventory.models import Component, Credential, Device, OwnField, PollRequest
from lumtar.domain.readings import components
from lumtar.domain.readings.components import ComponentSeries
from lumtar.domain.reports import devices
from lumtar.domain.reports.devices import DeviceRow
from lumtar.server.api import paging
from lumtar.server.api.access import ENGINEER, OPERATOR, VIEWER, Router
from lumtar.server.api.charts import GapOut, gaps_of
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past, span

router = Router(tags=["devices"])


class Devices(Schema):
    """A page of devices."""

    rows: list[DeviceRow]
    total: int
    next: str | None


@router.get("/devices", needs=VIEWER, response=Devices)
def list_devices(
    request: HttpRequest,
    at: datetime | None = None,
    site: str | None = None,
    group: int | None = None,
    words: str = "",
    retired: bool = False,
    limit: int = 500,
    cursor: str | None = None,
    start: int = 0,
) -> Devices:
    """Devices with their state, now or at a past time; or those that are retired."""
    first = paging.offset(cursor, start)
    rows, total = devices.find(
        past(at), site=site, group=group, words=words, retired=retired, limit=max(1, min(limit, 2000)), offset=first
    )
    return Devices(rows=rows, total=total, next=paging.following(first, len(rows), total))


class ComponentOut(Schema):
    """A component with its newest value."""

    id: int
    kind: str
    name: str
    unit: str
    value: float | None
    words: str
    """What a state means; empty for a quantity."""
    is_good: bool


class OwnFieldOut(Schema):
    """A field that this installation has added to its devices."""

    name: str
    kind: str
    choices: list[str]


class DeviceOut(Schema):
    """A device in full. ``refused`` is what its last poll gave and was not believed: by the name of the object, why."""

    row: DeviceRow
    sys_descr: str
    sys_object_id: str
    sys_name: str
    location: str
    contact: str
    serial: str
    software: str
    way: str
    credential: str
    credential_id: int | None
    groups: list[str]
    hangs_on: list[str]
    """The devices by which it is reached, each of which is enough."""
    tags: dict[str, str]
    own: dict[str, str]
    own_fields: list[OwnFieldOut]
    profile: str
    profile_id: int | None
    profile_by: str
    label_template: str
    requests: int | None
    refused: dict[str, str]
    refresh: str
    """How its agent refreshes its counters, in words; empty if that is not known."""
    edition: int
    retired_at: datetime | None
    components: list[ComponentOut]


@router.get("/devices/{int:device}", needs=VIEWER, response=DeviceOut)
def device(request: HttpRequest, device: int, at: datetime | None = None) -> DeviceOut:
    """One device, now or at a past time."""
    row = get_object_or_404(
        Device.objects.select_related("credential", "profile", "state").defer("credential__sealed"), pk=device
    )
    moment = past(at)
    rows, _ = devices.find(moment, only=device)
    newest = components.newest(device, moment)
    there = Q(gone_at=None) | Q(gone_at__gt=moment) if moment else Q(gone_at=None)
    listed = Component.objects.filter(there, device_id=device).order_by("kind", "index")
    return DeviceOut(
        row=rows[0],
        credential=row.credential.name if row.credential else "",
        profile=row.profile.name if row.profile else "",
        requests=row.state.requests,
        refused=row.state.refused,
        refresh=refreshes.of_device(device).words,
        own_fields=[OwnFieldOut(name=f.name, kind=f.kind, choices=f.choices) for f in OwnField.objects.all()],
        groups=sorted(group.name for group in row.groups.all()),
        hangs_on=sorted(row.hangs_on.values_list("name", flat=True)),
        components=[_component(each, newest.get(each.pk)) for each in listed],
        **{
            name: getattr(row, name)
            for name in DeviceOut.model_fields
            if name
            not in (
                "row",
                "hangs_on",
                "credential",
                "profile",
                "requests",
                "refused",
                "groups",
                "own_fields",
                "components",
                "refresh",
            )
        },
    )


def _component(component: Component, value: float | None) -> ComponentOut:
    kind = KINDS[component.kind]
    facts = {name: getattr(component, name) for name in ("kind", "name", "unit")}
    words = kind.word(value) if kind.has_state else ""
    return ComponentOut(id=component.pk, value=value, words=words, is_good=not kind.is_fault(value), **facts)


class ComponentsOut(Schema):
    """Components of a device over time, and its gaps with reasons."""

    components: list[ComponentSeries]
    gaps: list[GapOut]


@router.get("/devices/{int:device}/components", needs=VIEWER, response=ComponentsOut)
def device_components(
    request: HttpRequest, device: int, start: datetime | None = None, end: datetime | None = None, points: int = 300
) -> ComponentsOut:
    """Processor load, sensors and round-trip time of a device over time."""
    get_object_or_404(Device, pk=device)
    since, until = span(start, end, timedelta(days=1))
    read = components.read(device, since, until, points=max(10, min(points, 1600)))
    return ComponentsOut(components=read, gaps=gaps_of(device, since, until))


class NewDevice(Schema):
    """A device to add, with the number of a credential or with one that is typed in and never given back."""

    address: str
    port: int = 161
    name: str = ""
    site: str = ""
    way: str = "snmp"
    credential: int | None = None
    kind: str = "v2c"
    secret: dict[str, str] = {}
    interval_s: int = 60
    groups: list[str] = []
    tags: dict[str, str] = {}
    own: dict[str, str] = {}


class Added(Schema):
    """What was added."""

    id: int
    name: str


class DeviceChange(Schema):
    """What is to be changed of a device; what is left out stays. ``edition`` is that of the device as it was seen."""

    edition: int
    name: str | None = None
    address: str | None = None
    port: int | None = None
    site: str | None = None
    credential: int | None = None
    interval_s: int | None = None
    groups: list[str] | None = None
    hangs_on: list[str] | None = None
    tags: dict[str, str] | None = None
    own: dict[str, str] | None = None
    enabled: bool | None = None
    profile: int | None = None
    label_template: str | None = None


@router.post("/devices", needs=ENGINEER.everywhere, response={201: Added})
def add_device(request: HttpRequest, body: NewDevice) -> Status[Added]:
    """Add a device; its first poll follows within seconds and tells how it went."""
    stored = None
    if body.credential is not None:
        stored = Credential.objects.filter(pk=body.credential).first()
        if stored is None:
            raise Problem(422, "There is no such credential; it may have been deleted meanwhile.", "credential")
    with refusing():
        device = services.add_device(
            **body.model_dump(exclude={"credential"}), credential=stored, by=request.user.get_username()
        )
    return Status(201, Added(id=device.pk, name=device.name))


@router.patch("/devices/{int:device}", needs=ENGINEER, response=Added)
def change_device(request: HttpRequest, device: int, body: DeviceChange) -> Added:
    """Change a device; the collector follows within seconds."""
    wanted = body.model_dump(exclude_none=True, exclude={"edition"})
    with refusing():
        changed = services.change_device(device, body.edition, request.user.get_username(), **wanted)
    return Added(id=changed.pk, name=changed.name)


@router.post("/devices/{int:device}/retire", needs=ENGINEER, response=Added)
def retire_device(request: HttpRequest, device: int) -> Added:
    """Retire a device; its history is kept."""
    return _done(lambda: services.retire(device, request.user.get_username()))


@router.post("/devices/{int:device}/restore", needs=ENGINEER, response=Added)
def restore_device(request: HttpRequest, device: int) -> Added:
    """Poll a retired one again."""
    return _done(lambda: services.restore(device, request.user.get_username()))


class PollAsked(Schema):
    """A poll that was asked for."""

    id: int


class ExchangeOut(Schema):
    """One request to the device, and what came back."""

    kind: str
    asked: int
    first: str
    answers: int
    took_ms: float
    fault: str


class ComputedOut(Schema):
    """What was computed of one port; None where there is nothing to compare with."""

    id: int
    label: str
    seconds: float
    in_bps: float | None
    out_bps: float | None
    words: str


class PollRecord(Schema):
    """What a poll did: each request, and what was computed."""

    took_ms: float
    fault: str
    exchanges: list[ExchangeOut]
    computed: list[ComputedOut]


class PollOut(Schema):
    """A poll that was asked for; without a record it is not done yet."""

    id: int
    asked_at: datetime
    asked_by: str
    done_at: datetime | None
    record: PollRecord | None


@router.post("/devices/{int:device}/polls", needs=OPERATOR, response={202: PollAsked})
def poll_now(request: HttpRequest, device: int) -> Status[PollAsked]:
    """Poll a device now; the answer is there as soon as the collector has done it."""
    with refusing(409):
        asked = polling.ask(device, request.user.get_username())
    return Status(202, PollAsked(id=asked.pk))


@router.get("/devices/{int:device}/polls/{int:poll}", needs=OPERATOR, response=PollOut)
def poll_record(request: HttpRequest, device: int, poll: int) -> PollOut:
    """What became of a poll that was asked for."""
    poll_request = PollRequest.objects.get(pk=poll, device_id=device)
    record = PollRecord(**poll_request.record) if poll_request.done_at else None
    return PollOut(
        id=poll_request.pk,
        asked_at=poll_request.asked_at,
        asked_by=poll_request.asked_by,
        done_at=poll_request.done_at,
        record=record,
    )


@router.delete("/devices/{int:device}", needs=ENGINEER, response={204: None})
def delete_device(request: HttpRequest, device: int) -> Status[None]:
    """Delete a retired device with its history."""
    with refusing(409):
        services.delete(device, request.user.get_username())
    return Status(204, None)


def _done(work: Callable[[], Device]) -> Added:
    with refusing(409):
        result = work()
    return Added(id=result.pk, name=result.name)
