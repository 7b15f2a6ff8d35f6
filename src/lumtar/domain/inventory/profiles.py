"""Profiles: recognising devices, and changing what is read from them."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

from django.db import transaction
from django.db.models import Count, Q

from lumtar.core import conditions
from lumtar.core.devicelist import check_interval
from lumtar.core.labels import check_template
from lumtar.core.own_objects import ExtraObject, check_object
from lumtar.core.own_tables import (
    NeighbourTable,
    WirelessTables,
    check_neighbour_table,
    check_restart,
    check_wireless_tables,
)
from lumtar.core.profiles import (
    MOST_OBJECTS,
    SYSTEM_FIELDS,
    DeviceKind,
    Recognition,
    Table,
    check_oid,
    recognise,
)
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.models import Device, Profile
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark, put_in_order
from lumtar.domain.operation.services import announce

USUAL_INTERVAL = 60


@dataclass(frozen=True, slots=True)
class ProfileSpec:
    """A profile as somebody wrote it."""

    name: str
    kind: str = DeviceKind.OTHER
    prefixes: Sequence[str] = ()
    condition: str = ""
    tables: Sequence[str] = tuple(Table)
    objects: Sequence[Mapping[str, Any]] = field(default_factory=list)
    interval_s: int | None = None
    label_template: str = ""
    neighbour_table: Mapping[str, Any] = field(default_factory=dict)
    wireless_tables: Mapping[str, Any] = field(default_factory=dict)
    restart: Mapping[str, Any] = field(default_factory=dict)
    last_gasps: Sequence[str] = ()


def recognitions() -> list[Recognition]:
    """How the profiles know their devices, in their order."""
    return [
        Recognition(each.pk, each.name, each.prefixes, conditions.understand(each.condition, SYSTEM_FIELDS))
        for each in Profile.objects.all()
    ]


def _said(device: Device) -> dict[str, Any]:
    return {each.name: getattr(device, each.name) for each in SYSTEM_FIELDS}


def is_recognised(device: Device, recognitions: Sequence[Recognition]) -> bool:
    """Whether these would leave a device with the profile that it has."""
    if device.profile_id and not device.profile_by:
        return True
    best = recognise(_said(device), recognitions)
    return best is None or (device.profile_id, device.profile_by) == (best[0].number, best[1][:400])


def profile_for(values: Mapping[str, Any]) -> tuple[Profile, str] | None:
    """The profile that fits what a device says in its system group, and why."""
    best = recognise(values, recognitions())
    return (Profile.objects.get(pk=best[0].number), best[1]) if best else None


def reads_of(profile: Profile) -> dict[str, Any]:
    """What a device of this profile reads, as the device keeps it."""
    own = {name: getattr(profile, name) for name in ("neighbour_table", "wireless_tables")}
    return {
        "tables": profile.tables,
        "objects": profile.objects_read,
        **{name: table for name, table in own.items() if table},
    }


def recognise_device(device: Device) -> list[str]:
    """Give a device the profile that fits it, unless somebody chose one; the caller saves the fields that are named."""
    if device.profile_id and not device.profile_by:
        return []
    best = profile_for(_said(device))
    profile, why = best or (None, "")
    if profile is None or (device.profile_id == profile.pk and device.profile_by == why[:400]):
        return []
    if device.profile_id == profile.pk:
        device.profile_by = why[:400]
        return ["profile_by"]
    return give(device, profile, why)


def give(device: Device, profile: Profile | None, why: str = "") -> list[str]:
    """Set a device's profile and what it reads; the caller saves the fields that are named."""
    before = device.profile.interval_s if device.profile else None
    device.profile, device.profile_by = profile, why[:400]
    device.reads = reads_of(profile) if profile else {}
    changed = ["profile", "profile_by", "reads"]
    # An interval that somebody chose stays, also if that was since the device was loaded.
    device.refresh_from_db(fields=["interval_s"])
    if profile and profile.interval_s and device.interval_s == (before or USUAL_INTERVAL):
        device.interval_s = profile.interval_s
        changed.append("interval_s")
    return changed


def objects_of(device: Device) -> tuple[frozenset[Table], tuple[ExtraObject, ...]]:
    """Standard tables and extra objects that are read from a device."""
    tables = device.reads.get("tables", list(Table))
    return frozenset(Table(table) for table in tables), tuple(
        ExtraObject(**each) for each in device.reads.get("objects", ())
    )


def neighbour_table_of(device: Device) -> NeighbourTable | None:
    """The maker's own table of neighbours that is read from a device, if there is one."""
    return check_neighbour_table(device.reads.get("neighbour_table") or {})


def wireless_tables_of(device: Device) -> WirelessTables | None:
    """The tables of access points and clients that are read from a device, if there are some."""
    return check_wireless_tables(device.reads.get("wireless_tables") or {})


def _checked(spec: ProfileSpec) -> Profile:
    """A profile that can be kept, not yet saved.

    Raises
    ------
    Refusal
        with a sentence for the person who wrote it
    """
    name = spec.name.strip()
    if not 1 <= len(name) <= 80:
        raise Refusal("A profile's name has 1 to 80 characters.")
    if spec.kind not in set(DeviceKind):
        raise Refusal(f"A kind is one of {', '.join(DeviceKind)}.")
    if unknown := set(spec.tables) - set(Table):
        raise Refusal(f"There is no table {sorted(unknown)[0]!r}; there are {', '.join(Table)}.")
    prefixes = [check_oid(prefix) for prefix in spec.prefixes if prefix.strip()]
    condition = conditions.understand(spec.condition, SYSTEM_FIELDS)
    if len(prefixes) > 100 or len(spec.objects) > MOST_OBJECTS:
        raise Refusal(f"A profile has at most 100 prefixes and {MOST_OBJECTS} objects.")
    objects = [check_object(**each) for each in spec.objects]
    # The same number may be shown as it is, and as a share of its limit.
    for what, values in (
        ("identifier", [(each.oid, each.part) for each in objects]),
        ("name", [(each.name, "") for each in objects]),
    ):
        if twice := next((each for each in values if values.count(each) > 1), None):
            raise Refusal(f"Two objects have the {what} {twice[0]}.")
    table, restart = check_neighbour_table(spec.neighbour_table), check_restart(spec.restart)
    wireless = check_wireless_tables(spec.wireless_tables)
    return Profile(
        neighbour_table=asdict(table) if table else {},
        wireless_tables=asdict(wireless) if wireless else {},
        restart=asdict(restart) if restart else {},
        last_gasps=_last_gasps(spec.last_gasps),
        name=name,
        kind=spec.kind,
        prefixes=prefixes,
        condition=condition.text,
        tables=[str(table) for table in Table if table in spec.tables],
        objects_read=[asdict(each) for each in objects],
        interval_s=None if spec.interval_s is None else check_interval(spec.interval_s),
        label_template=check_template(spec.label_template) if spec.label_template.strip() else "",
    )


def _last_gasps(given: Sequence[str]) -> list[str]:
    wanted = list(dict.fromkeys(check_oid(oid) for oid in given if oid.strip()))
    if len(wanted) > MOST_OBJECTS:
        raise Refusal(f"A profile has at most {MOST_OBJECTS} notifications of a loss of power.")
    return wanted


@transaction.atomic
def save(spec: ProfileSpec, by: str, pk: int | None = None, edition: int = 0, for_all: bool = False) -> Profile:
    """Keep a new profile, or a changed one.

    Parameters
    ----------
    for_all : the devices that have it read what it says now; else only those added from now on do

    Raises
    ------
    Refusal, Stale, Profile.DoesNotExist
    """
    wanted = _checked(spec)
    if pk is None:
        wanted.place = Profile.objects.count()
        mark(wanted, by)
        note_action(f"profile {wanted.name} created", by)
        return wanted
    profile = claim(Profile, pk, edition)
    before = profile.interval_s or USUAL_INTERVAL
    kept = (
        "name", "kind", "prefixes", "condition", "tables", "objects_read", "interval_s", "label_template", "neighbour_table", "wireless_tables",
        "restart", "last_gasps",
    )  # fmt: skip
    for name in kept:
        setattr(profile, name, getattr(wanted, name))
    mark(profile, by)
    devices = []
    if for_all:
        devices = list(profile.devices.select_for_update(of=("self",)).filter(retired_at=None))
        for device in devices:
            device.reads = reads_of(profile)
            if device.interval_s == before:
                device.interval_s = profile.interval_s or USUAL_INTERVAL
        Device.objects.bulk_update(devices, ["reads", "interval_s"])
        announce("devices", [device.pk for device in devices])
    whom = f"for all {len(devices)} devices that use it" if for_all else "for devices added from now on"
    note_action(f"profile {profile.name} changed, {whom}", by)
    return profile


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a profile; its devices go on reading what they read.

    Raises
    ------
    Profile.DoesNotExist
    """
    profile = Profile.objects.get(pk=pk)
    name, users = profile.name, profile.devices.count()
    profile.delete()
    note_action(f"profile {name} deleted; {users} devices go on as they are", by)


@transaction.atomic
def reorder(ids: Iterable[int], by: str) -> None:
    """Put profiles in the order in which equal ones are weighed.

    Raises
    ------
    Refusal
    """
    put_in_order(Profile, ids)
    note_action("profiles put in another order", by)


def with_users() -> list[tuple[Profile, int]]:
    """All profiles, each with how many devices in use have it."""
    profiles = Profile.objects.annotate(used=Count("devices", filter=Q(devices__retired_at=None))).order_by(
        "place", "pk"
    )
    return [(profile, profile.used) for profile in profiles]
