"""Adding, changing, retiring and deleting devices."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import date, datetime
from typing import TypedDict, Unpack

from django.db import IntegrityError, transaction
from django.utils import timezone

from lumtar.core.devicelist import check_address, check_interval, check_port
from lumtar.core.groups import within
from lumtar.core.labels import check_template
from lumtar.core.reach import PRIVATE, is_address, may_be_sent, refusal
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory import signals
from lumtar.domain.inventory.credentials import Kind, create, open_secret, opened
from lumtar.domain.inventory.labelling import label_ports
from lumtar.domain.inventory.models import Credential, Device, DeviceState, Group, OwnField, Profile, Reach, Site
from lumtar.domain.inventory.profiles import give, recognise_device
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim
from lumtar.domain.operation.services import announce

Way = Device.Way


def add_device(
    address: str,
    *,
    port: int = 161,
    name: str = "",
    site: str = "",
    way: str = Way.SNMP,
    credential: Credential | None = None,
    kind: str = "",
    secret: dict[str, str] | None = None,
    interval_s: int = 60,
    groups: Sequence[str] = (),
    tags: Mapping[str, str] | None = None,
    own: Mapping[str, str] | None = None,
    by: str = "",
) -> Device:
    """Add a device with a stored credential, or with ``kind`` and ``secret`` of one that is made or found.

    Raises
    ------
    Refusal
        with a sentence for the person who adds it
    """
    address = check_address(address)
    port = 0 if way == Way.ICMP else check_port(port)
    if way not in Way.values:
        raise Refusal(f"A device is watched by {', '.join(Way.values[:-1])} or {Way.values[-1]}.")
    if there := Device.objects.filter(address=address, port=port, way=way).first():
        retired = ", retired; restore it instead" if there.retired_at else ""
        raise Refusal(
            f"There is a device at {address}{f' port {port}' if port else ''} already: {there.name}{retired}."
        )
    if way != Way.SNMP:
        credential = None
    elif credential is None:
        credential = _credential(kind, secret or {}, by, address)
    if credential is not None:
        _check_reach(credential, address)
    with transaction.atomic():
        device = Device(
            name=_name(name.strip() or address),
            address=address,
            port=port,
            way=way,
            site=site_called(site),
            credential=credential,
            interval_s=check_interval(interval_s),
            tags=dict(tags or {}),
            own=checked_own(own or {}),
        )
        try:
            with transaction.atomic():
                device.save()
        except IntegrityError as error:
            raise Refusal(f"There is a device at {address} port {port} already.") from error
        device.groups.set(_groups(groups))
        DeviceState.objects.create(device=device, since=timezone.now())
        note_action(f"{device.name} added", by, device)
        announce("devices", [device.pk])
    return device


def _name(name: str) -> str:
    if not 1 <= len(name) <= 120 or any(ord(letter) < 32 for letter in name):
        raise Refusal("A name has 1 to 120 characters, none of them a control character.")
    return name


def site_called(name: str) -> Site | None:
    """The site of that name, made if there is none; None for no name.

    Raises
    ------
    Refusal
    """
    name = name.strip()
    if len(name) > 80:
        raise Refusal("A site's name has at most 80 characters.")
    return Site.objects.get_or_create(name=name)[0] if name else None


def _groups(names: Iterable[str]) -> list[Group]:
    wanted = [name.strip() for name in names if name.strip()]
    if any(len(name) > 80 for name in wanted):
        raise Refusal("A group's name has at most 80 characters.")
    return [Group.objects.get_or_create(name=name)[0] for name in wanted]


def _check_reach(credential: Credential, address: str) -> None:
    """A name is looked up when it is polled; an address can be refused at once."""
    if is_address(address) and not may_be_sent(credential.ranges, address):
        raise Refusal(
            f"{refusal(credential.name, credential.ranges, address).capitalize()}. An administrator can allow it in Credentials."
        )


def _credential(kind: str, secret: dict[str, str], by: str, address: str) -> Credential:
    wanted = open_secret(kind, secret)
    for credential in Credential.objects.filter(kind=kind):
        if opened(credential) == wanted:
            return credential
    label = f"SNMP v3 {secret['user']}"[:70] if kind == Kind.V3 else f"SNMP {kind}"
    taken = set(Credential.objects.filter(name__startswith=label).values_list("name", flat=True))
    number = next(n for n in range(1, len(taken) + 2) if (label if n == 1 else f"{label} {n}") not in taken)
    # Whoever typed it in for this address meant it to be sent there.
    own = f", {address}" if is_address(address) and not may_be_sent(PRIVATE, address) else ""
    return create(label if number == 1 else f"{label} {number}", kind, secret, by=by, ranges=PRIVATE + own)


def checked_own(values: Mapping[str, str]) -> dict[str, str]:
    """Values of own fields, each after its kind; empty ones are left out.

    Raises
    ------
    Refusal
        with a sentence for the person who entered it
    """
    if not any(values.values()):
        return {}
    fields = {field.name: field for field in OwnField.objects.all()}
    checked = {}
    for name, value in values.items():
        if name not in fields:
            raise Refusal(f"There is no own field {name!r}; make it first.")
        if value:
            checked[name] = _own_value(fields[name], value)
    return checked


def _own_value(field: OwnField, value: str) -> str:
    text = value.strip()
    if len(text) > 400:
        raise Refusal(f"{field.name} is longer than 400 characters.")
    try:
        if field.kind == OwnField.Kind.NUMBER:
            float(text)
        elif field.kind == OwnField.Kind.DATE:
            date.fromisoformat(text)
    except ValueError as error:
        form = "a number" if field.kind == OwnField.Kind.NUMBER else "a date like 2026-11-23"
        raise Refusal(f"{field.name} is {form}, not {text[:30]!r}.") from error
    if field.kind == OwnField.Kind.CHOICE and text not in field.choices:
        raise Refusal(f"{field.name} is one of {', '.join(field.choices)}, not {text[:30]!r}.")
    return text


def _said(device: Device) -> dict[str, str]:
    """What people said of a device, in words for the logbook."""
    return {
        **{name: str(getattr(device, name) or "") for name in ("name", "address", "port", "site", "credential")},
        "interval": f"{device.interval_s} s",
        "polling": "on" if device.enabled else "off",
        "groups": ", ".join(sorted(device.groups.values_list("name", flat=True))),
        "hangs on": ", ".join(sorted(device.hangs_on.values_list("name", flat=True))),
        "tags": "; ".join(f"{key}={value}" for key, value in sorted(device.tags.items())),
        "own fields": "; ".join(f"{name} {value}" for name, value in sorted(device.own.items())),
        "profile": device.profile.name if device.profile else "",
        "label template": device.label_template,
    }


class DeviceChange(TypedDict, total=False):
    """What can be told of a device. ``credential`` and ``profile`` are numbers; profile 0 lets it be recognised.

    An empty ``label_template`` is that of the profile.
    """

    address: str
    port: int
    name: str
    site: str
    credential: int
    interval_s: int
    groups: Sequence[str]
    hangs_on: Sequence[str]
    tags: Mapping[str, str]
    own: Mapping[str, str]
    enabled: bool
    profile: int
    label_template: str


@transaction.atomic
def change_device(pk: int, edition: int, by: str, **given: Unpack[DeviceChange]) -> Device:
    """Change what people say of a device; what is not told stays.

    Raises
    ------
    Stale, Refusal, Device.DoesNotExist
    """
    device = claim(Device, pk, edition)
    if device.credential_id:
        # Without its secret, which who is limited to a part of the network may not read.
        device.credential = Credential.objects.get(pk=device.credential_id)
    before = _said(device)
    _take(device, given)
    try:
        with transaction.atomic():
            device.save()
    except IntegrityError as error:
        raise Refusal(f"There is a device at {device.address} port {device.port} already.", "address") from error
    if "groups" in given:
        device.groups.set(_groups(given["groups"]))
    if "hangs_on" in given:
        device.hangs_on.set(_carriers(device, given["hangs_on"]))
    after = _said(device)
    if any(after[name] != before[name] for name in ("label template", "profile", "site", "name")):
        label_ports(devices=[device.pk])
    changes = [
        f"{name} {after[name] or 'none'}, was {before[name] or 'none'}"
        for name in before
        if after[name] != before[name]
    ]
    if changes:
        note_action(f"{device.name} changed: " + "; ".join(changes), by, device)
    announce("devices", [device.pk])
    return device


def _carriers(device: Device, names: Sequence[str]) -> list[Device]:
    """The devices with these names, by which another one is reached; none of them hangs on it in turn."""
    found = []
    for name in dict.fromkeys(name.strip() for name in names if name.strip()):
        called = list(Device.objects.filter(name=name, retired_at=None)[:2])
        if len(called) != 1:
            many = "is no device" if not called else "are several devices"
            raise Refusal(f"{name[:80]} {many}; name one that there is once.", "hangs_on")
        found += called
    ways: dict[int, list[int]] = {}
    for below, above in Device.hangs_on.through._default_manager.values_list("from_device_id", "to_device_id"):
        ways.setdefault(below, []).append(above)
    ways[device.pk] = []
    for carrier in found:
        if device.pk in within(ways, carrier.pk):
            raise Refusal(f"{carrier.name} hangs on {device.name} already: they cannot hang on each other.", "hangs_on")
    return found


def _take(device: Device, changes: DeviceChange) -> None:
    """Take over what was told, each value once it is checked."""
    if "name" in changes:
        device.name = _name(changes["name"].strip())
    if "address" in changes:
        device.address = check_address(changes["address"])
    if "port" in changes and device.way != Way.ICMP:
        device.port = check_port(changes["port"])
    if "site" in changes:
        device.site = site_called(changes["site"])
    if "credential" in changes and device.way == Way.SNMP:
        device.credential = _stored_credential(changes["credential"])
    if device.credential is not None and ("address" in changes or "credential" in changes):
        _check_reach(device.credential, device.address)
    if "interval_s" in changes:
        device.interval_s = check_interval(changes["interval_s"])
    if "tags" in changes:
        device.tags = dict(changes["tags"])
    if "own" in changes:
        device.own = checked_own(changes["own"])
    if "enabled" in changes:
        device.enabled = changes["enabled"]
    if "profile" in changes:
        _choose_profile(device, changes["profile"])
    if "label_template" in changes:
        template = changes["label_template"].strip()
        device.label_template = check_template(template) if template else ""


def _stored_credential(number: int) -> Credential:
    credential = Credential.objects.filter(pk=number).first()
    if credential is None:
        raise Refusal("There is no such credential; it may have been deleted meanwhile.", "credential")
    return credential


def _choose_profile(device: Device, number: int) -> None:
    """Give a device the profile that somebody chose; 0 lets it be recognised again."""
    if number == 0:
        if not (device.profile_id and device.profile_by):
            give(device, None)
            recognise_device(device)
        return
    profile = Profile.objects.filter(pk=number).first()
    if profile is None:
        raise Refusal("There is no such profile; it may have been deleted meanwhile.")
    if profile.pk != device.profile_id or device.profile_by:
        give(device, profile)


@transaction.atomic
def retire(pk: int, by: str) -> Device:
    """Poll a device no more and take it out of the lists; its history stays, its alarms are cleared.

    Raises
    ------
    Refusal
        if it is retired already
    Device.DoesNotExist
    """
    device = Device.objects.select_for_update(of=("self",)).get(pk=pk)
    if device.retired_at:
        raise Refusal(f"{device.name} is retired already.")
    now = timezone.now()
    signals.retired.send(Device, device=device.pk, at=now)
    return _mark(device, now, f"{device.name} retired; its history is kept", by)


@transaction.atomic
def restore(pk: int, by: str) -> Device:
    """Poll a retired device again; the time between is a gap.

    Raises
    ------
    Refusal
        if it is not retired
    Device.DoesNotExist
    """
    device = Device.objects.select_for_update(of=("self",)).get(pk=pk)
    if not device.retired_at:
        raise Refusal(f"{device.name} is not retired.")
    now = timezone.now()
    signals.restored.send(Device, device=device.pk, at=now)
    DeviceState.objects.filter(device=device).update(reach=Reach.UNKNOWN, since=now)
    return _mark(device, None, f"{device.name} restored", by)


def _mark(device: Device, retired_at: datetime | None, words: str, by: str) -> Device:
    """Say whether a device is retired, and who said so."""
    device.retired_at = retired_at
    device.edition += 1
    device.save(update_fields=["retired_at", "edition"])
    note_action(words, by, device)
    announce("devices", [device.pk])
    return device


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a retired device with its logbook. Its alarms stay in the history; readings belong to nobody and expire.

    Raises
    ------
    Refusal
        if it is not retired
    Device.DoesNotExist
    """
    device = Device.objects.select_for_update(of=("self",)).get(pk=pk)
    if not device.retired_at:
        raise Refusal(f"Retire {device.name} first: deleting takes its history with it, and cannot be undone.")
    device.delete()
    note_action(f"{device.name} ({device.address}) deleted with its history", by)
    announce("devices")
