"""Profiles: listed, made, changed, and tried on the devices that are there."""

import asyncio
from datetime import datetime
from typing import Any

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Status

from lumtar.core import conditions
from lumtar.core.own_objects import OBJECT, own_kinds
from lumtar.core.profiles import SYSTEM_FIELDS, TABLES, DeviceKind, Recognition, check_oid, recognise
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory import profiles
from lumtar.domain.inventory.models import Device, Profile
from lumtar.domain.inventory.profiles import ProfileSpec
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.conditions import ConditionField, fields_out
from lumtar.server.api.credentials import Order
from lumtar.server.api.errands import done_by_a_collector
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["profiles"])
SHOWN = 200


class ObjectIO(Schema):
    """An extra object: ``counts`` for a counter, kept as a rate; ``text`` for a number written as text; ``part`` is what it is.

    ``names`` is a column with the names of rows, ``limit`` what a share is of, ``states`` the device's numbers behind the words for
    them, such as ``up 1; down 2``.
    """

    oid: str
    name: str
    unit: str = ""
    scale: float = 1.0
    counts: bool = False
    text: bool = False
    part: str = OBJECT
    names: str = ""
    limit: str = ""
    states: str = ""


class NeighbourTableIO(Schema):
    """A table of a maker's own that tells of neighbours: its columns, and which number of the index is the port's ifIndex."""

    name: str = ""
    port: str = ""
    address: str = ""
    if_index_at: int = 1


class WirelessTablesIO(Schema):
    """Columns in which access points and wireless clients are told of; those that the maker does not have are empty."""

    point_name: str = ""
    point_mac: str = ""
    point_address: str = ""
    point_model: str = ""
    point_state: str = ""
    point_up: int = 1
    client_network: str = ""
    client_point: str = ""
    client_mac: str = ""
    client_address: str = ""
    client_signal: str = ""


class RestartIO(Schema):
    """The object that is set to restart a device, and its value."""

    oid: str = ""
    value: int = 1


class ProfileIn(Schema):
    """How a kind of device is recognised, and what is read from it."""

    name: str
    kind: str = "other"
    prefixes: list[str] = []
    condition: str = ""
    tables: list[str] = list(TABLES)
    objects: list[ObjectIO] = []
    interval_s: int | None = None
    label_template: str = ""
    neighbour_table: NeighbourTableIO = NeighbourTableIO()
    wireless_tables: WirelessTablesIO = WirelessTablesIO()
    restart: RestartIO = RestartIO()
    last_gasps: list[str] = []


class ProfileChange(ProfileIn):
    """A change: for the devices that have it, or only for those added from now on."""

    edition: int
    for_all: bool


class ProfileOut(ProfileIn):
    """A profile and how many devices have it."""

    model_config = ALWAYS

    id: int
    devices: int
    edition: int
    changed_at: datetime
    changed_by: str


class TableOut(Schema):
    """A standard table that can be read."""

    name: str
    meaning: str


class OwnKindOut(Schema):
    """What an object of a profile can be: a word for it, its unit if it has one, and the words that its number stands for."""

    name: str
    words: str
    unit: str
    is_share: bool
    states: list[str]


class ProfilesOut(Schema):
    """All profiles, and what they can be made of."""

    rows: list[ProfileOut]
    tables: list[TableOut]
    own_kinds: list[OwnKindOut]
    kinds: list[str]
    fields: list[ConditionField]


class UserOut(Schema):
    """A device that has a profile, or would be recognised by it."""

    id: int
    name: str
    why: str


class Fitting(Schema):
    """How many devices of all are recognised, with the first of them."""

    total: int
    of: int
    rows: list[UserOut]


class ObjectAsked(Schema):
    """An object to read from a device now."""

    device: int
    oid: str


def _out(profile: Profile, devices: int) -> ProfileOut:
    same = ("name", "kind", "prefixes", "condition", "tables", "interval_s", "label_template", "last_gasps")
    return ProfileOut(
        id=profile.pk,
        devices=devices,
        objects=profile.objects_read,
        neighbour_table=NeighbourTableIO(**profile.neighbour_table),
        wireless_tables=WirelessTablesIO(**profile.wireless_tables),
        restart=RestartIO(**profile.restart),
        edition=profile.edition,
        changed_at=profile.changed_at,
        changed_by=profile.changed_by,
        **{name: getattr(profile, name) for name in same},
    )


def _spec(body: ProfileIn) -> ProfileSpec:
    return ProfileSpec(**body.model_dump(include=set(ProfileIn.model_fields)))


@router.get("/profiles", needs=VIEWER, response=ProfilesOut)
def list_profiles(request: HttpRequest) -> ProfilesOut:
    """All of them, in the order in which equal ones are weighed."""
    return ProfilesOut(
        rows=[_out(profile, used) for profile, used in profiles.with_users()],
        tables=[TableOut(name=name, meaning=meaning) for name, meaning in TABLES.items()],
        own_kinds=[
            OwnKindOut(
                name=name, words=kind.words, unit=kind.unit, is_share=kind.is_share, states=list(kind.states.values())
            )
            for name, kind in own_kinds().items()
        ],
        kinds=list(DeviceKind),
        fields=fields_out(SYSTEM_FIELDS),
    )


@router.post("/profiles", needs=ENGINEER.everywhere, response={201: ProfileOut})
def make_profile(request: HttpRequest, body: ProfileIn) -> Status[ProfileOut]:
    """A new one. Devices take it when they are described the next time, unless somebody chose theirs."""
    with refusing():
        return Status(201, _out(profiles.save(_spec(body), request.user.get_username()), 0))


@router.put("/profiles/order", needs=ENGINEER.everywhere, response=ProfilesOut)
def order_profiles(request: HttpRequest, body: Order) -> ProfilesOut:
    """The order in which equal ones are weighed."""
    with refusing(409):
        profiles.reorder(body.ids, request.user.get_username())
    return list_profiles(request)


@router.put("/profiles/{int:profile}", needs=ENGINEER.everywhere, response=ProfileOut)
def change_profile(request: HttpRequest, profile: int, body: ProfileChange) -> ProfileOut:
    """Change a profile."""
    with refusing():
        changed = profiles.save(_spec(body), request.user.get_username(), profile, body.edition, body.for_all)
    return _out(changed, changed.devices.filter(retired_at=None).count())


@router.delete("/profiles/{int:profile}", needs=ENGINEER.everywhere, response={204: None})
def delete_profile(request: HttpRequest, profile: int) -> Status[None]:
    """Delete a profile; its devices go on reading what they read."""
    profiles.delete(profile, request.user.get_username())
    return Status(204, None)


@router.get("/profiles/{int:profile}/devices", needs=VIEWER, response=Fitting)
def profile_devices(request: HttpRequest, profile: int) -> Fitting:
    """The devices that have a profile, and why."""
    get_object_or_404(Profile, pk=profile)
    devices = Device.objects.filter(profile_id=profile, retired_at=None).order_by("name")
    rows = [UserOut(id=d.pk, name=d.name, why=d.profile_by or "somebody chose it") for d in devices[:SHOWN]]
    return Fitting(total=devices.count(), of=Device.objects.filter(retired_at=None).count(), rows=rows)


@router.post("/profiles/fitting", needs=ENGINEER.everywhere, response=Fitting)
def fitting_devices(request: HttpRequest, body: ProfileIn) -> Fitting:
    """Which devices would be recognised if there were this profile alone; nothing is kept."""
    with refusing():
        condition = conditions.understand(body.condition, SYSTEM_FIELDS)
    wanted = Recognition(0, body.name, [prefix.strip(". ") for prefix in body.prefixes if prefix], condition)
    names = [field.name for field in SYSTEM_FIELDS]
    devices = Device.objects.filter(retired_at=None).order_by("name").values("pk", "name", *names)
    fitting = [(each, why[1]) for each in devices if (why := recognise(each, [wanted]))]
    rows = [UserOut(id=each["pk"], name=each["name"], why=why) for each, why in fitting[:SHOWN]]
    return Fitting(total=len(fitting), of=len(devices), rows=rows)


class InstanceOut(Schema):
    """One instance of an object."""

    oid: str
    type: str
    value: str
    number: float | None


class ObjectOut(Schema):
    """What a device answers now; ``fault`` says why it does not."""

    instances: list[InstanceOut]
    more: bool
    took_ms: float
    fault: str


@router.post("/objects/read", needs=ENGINEER.everywhere, response=ObjectOut)
def read_object(request: HttpRequest, body: ObjectAsked) -> ObjectOut:
    """Read an object from a device now, while its identifier is typed."""
    with refusing():
        device = get_object_or_404(Device.objects.select_related("credential"), pk=body.device)
        if device.credential is None:
            raise Refusal(f"{device.name} is not watched by SNMP.")
        oid = check_oid(body.oid)
    asked = {"address": device.address, "port": device.port, "credentials": [device.credential.pk], "oid": oid}

    async def first() -> dict[str, Any]:
        async for line in done_by_a_collector("object", asked):
            return line
        raise Problem(503, "The collector ended while it was at it. Try again.")

    return ObjectOut(**asyncio.run(first()))
