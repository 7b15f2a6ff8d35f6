"""Adding devices, keeping what they say of themselves, and opening their credentials."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

import orjson
from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from lumtar.core.discovery import Described, PartDescribed, PortDescribed
from lumtar.core.speeds import chosen
from lumtar.core.text import port_label
from lumtar.domain.inventory.models import Component, Credential, Device, DeviceState, Interface, InterfaceSpeed, Site
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.secrets import seal, unseal
from lumtar.domain.operation.services import announce
from lumtar.wire import session as snmp
from lumtar.wire import usm


def seal_credential(kind: str, secret: dict[str, str]) -> str:
    """A credential's secret part, encrypted, after trying whether it makes sense.

    Raises
    ------
    ValueError
        with a sentence for the person who entered it
    """
    open_secret(kind, secret)
    return seal(orjson.dumps(secret).decode())


def open_secret(kind: str, secret: dict[str, str]) -> snmp.Credential:
    """The credential as the wire layer wants it.

    Raises
    ------
    ValueError
    """
    if kind == Credential.Kind.V2C:
        if not secret.get("community"):
            raise ValueError("A version 2c credential needs a community.")
        return snmp.Community(secret["community"])
    if not secret.get("user"):
        raise ValueError("A version 3 credential needs a user name.")
    auth, priv = secret.get("auth", ""), secret.get("priv", "")
    for word, protocol in (("authentication", auth), ("privacy", priv)):
        password = secret.get(f"{word[:4]}_password", "")
        if protocol and len(password) < 8:
            raise ValueError(f"The {word} password needs at least 8 characters (RFC 3414).")
    if priv and not auth:
        raise ValueError("Privacy without authentication is not allowed (RFC 3411).")
    try:
        return usm.User(
            secret["user"],
            usm.AuthProtocol(auth) if auth else None,
            secret.get("auth_password", ""),
            usm.PrivProtocol(priv) if priv else None,
            secret.get("priv_password", ""),
        )
    except ValueError as error:
        offered = ", ".join([*usm.AuthProtocol, *usm.PrivProtocol])
        raise ValueError(f"That protocol is not known here; there are {offered}.") from error


def opened(credential: Credential) -> snmp.Credential:
    """A stored credential, decrypted.

    Raises
    ------
    SecretUnreadable, ValueError
    """
    return open_secret(credential.kind, orjson.loads(unseal(credential.sealed)))


def add_device(
    address: str,
    *,
    port: int = 161,
    name: str = "",
    site: str = "",
    kind: str,
    secret: dict[str, str],
    interval_s: int = 60,
    by: str = "",
) -> Device:
    """Add a device with a credential of its own, or with one that holds the same secret already.

    Raises
    ------
    ValueError
        with a sentence for the person who adds it
    """
    address = address.strip()
    if not 1 <= port <= 65535:
        raise ValueError("A port lies between 1 and 65535.")
    if not 10 <= interval_s <= 86400:
        raise ValueError("The interval lies between 10 seconds and a day.")
    if not address or len(address) > 253 or any(letter.isspace() or ord(letter) < 33 for letter in address):
        raise ValueError("An address is a name, an IPv4 or an IPv6 address, without blanks.")
    if Device.objects.filter(address=address, port=port).exists():
        raise ValueError(f"There is a device at {address} port {port} already.")
    credential = _credential(kind, secret)
    with transaction.atomic():
        place = Site.objects.get_or_create(name=site.strip()[:80])[0] if site.strip() else None
        device = Device(
            name=name.strip() or address,
            address=address,
            port=port,
            site=place,
            credential=credential,
            interval_s=interval_s,
        )
        try:
            device.full_clean(exclude=["credential", "site"])
        except ValidationError as error:
            raise ValueError(" ".join(error.messages)) from error
        device.save()
        DeviceState.objects.create(device=device, since=timezone.now())
        who = f" by {by}" if by else ""
        Entry.objects.create(at=timezone.now(), kind=Entry.Kind.USER, device=device, text=f"{device.name} added{who}")
        announce("devices", [device.pk])
    return device


def _credential(kind: str, secret: dict[str, str]) -> Credential:
    wanted = open_secret(kind, secret)
    for credential in Credential.objects.filter(kind=kind):
        if opened(credential) == wanted:
            return credential
    sealed = seal_credential(kind, secret)
    label = f"SNMP {kind}" if kind == Credential.Kind.V2C else f"SNMP v3 {secret['user']}"
    taken = set(Credential.objects.filter(name__startswith=label).values_list("name", flat=True))
    number = next(n for n in range(1, len(taken) + 2) if (label if n == 1 else f"{label} {n}") not in taken)
    return Credential.objects.create(name=label if number == 1 else f"{label} {number}", kind=kind, sealed=sealed)


def describe(
    device: Device, said: Described, ports: Sequence[PortDescribed], parts: Sequence[PartDescribed], now: datetime
) -> tuple[dict[int, Interface], dict[tuple[str, int], Component]]:
    """Take over what a device says of itself; what came, went or was renamed goes to the logbook.

    Returns
    -------
    interfaces by index and components by (kind, index), as far as the device lists them
    """
    with transaction.atomic():
        changed = [name for name in Described.__dataclass_fields__ if getattr(device, name) != getattr(said, name)]
        for name in changed:
            setattr(device, name, getattr(said, name))
        if device.name == device.address and said.sys_name:
            device.name = said.sys_name[:120]
            changed.append("name")
        if changed:
            device.save(update_fields=changed)
        interfaces = _describe_ports(device, ports, now)
        components = _describe_parts(device, parts)
    return interfaces, components


def _describe_ports(device: Device, ports: Sequence[PortDescribed], now: datetime) -> dict[int, Interface]:
    known = {interface.if_index: interface for interface in device.interfaces.all()}
    new: list[Interface] = []
    renewed: list[Interface] = []
    news: list[tuple[Interface | None, str]] = []
    for port in ports:
        label = port_label(port.alias, port.name, port.descr, port.if_index)
        values = {
            "name": port.name,
            "descr": port.descr,
            "alias": port.alias,
            "if_type": port.if_type,
            "mac": port.mac,
            "label": label,
            "gone_at": None,
        }
        interface = known.get(port.if_index)
        if interface is None:
            new.append(Interface(device=device, if_index=port.if_index, first_seen=now, **values))
            continue
        if interface.gone_at:
            news.append((interface, f"port {label} is listed again"))
        elif interface.label != label:
            news.append((interface, f"port {interface.label} is now called {label}"))
        if any(getattr(interface, name) != value for name, value in values.items()):
            for name, value in values.items():
                setattr(interface, name, value)
            renewed.append(interface)
    listed = {port.if_index for port in ports}
    for interface in known.values():
        if interface.if_index not in listed and not interface.gone_at:
            interface.gone_at = now
            renewed.append(interface)
            news.append((interface, f"port {interface.label} is gone"))
    if known and new:
        news += [(None, f"{len(new)} new {'port' if len(new) == 1 else 'ports'}")]
    created = Interface.objects.bulk_create(new)
    # An upsert: Django's bulk_update costs a hundred times as much for a large switch.
    Interface.objects.bulk_create(
        renewed,
        update_conflicts=True,
        unique_fields=["device", "if_index"],
        update_fields=["name", "descr", "alias", "if_type", "mac", "label", "gone_at"],
    )
    Entry.objects.bulk_create(
        [
            Entry(at=now, kind=Entry.Kind.INVENTORY, device=device, interface=interface, text=text[:400])
            for interface, text in news
        ]
    )
    return {interface.if_index: interface for interface in [*known.values(), *created] if interface.if_index in listed}


def _describe_parts(device: Device, parts: Sequence[PartDescribed]) -> dict[tuple[str, int], Component]:
    Component.objects.bulk_create(
        [Component(device=device, kind=p.kind, index=p.index, name=p.name, unit=p.unit, scale=p.scale) for p in parts],
        update_conflicts=True,
        unique_fields=["device", "kind", "index"],
        update_fields=["name", "unit", "scale"],
    )
    listed = {(part.kind, part.index) for part in parts}
    return {(c.kind, c.index): c for c in device.components.all() if (c.kind, c.index) in listed}


@dataclass(frozen=True, slots=True)
class SpeedChange:
    """The speed of an interface's port was seen to be this, in bits per second."""

    interface: int
    at: datetime
    port_bps: int
    from_high_speed: bool
    in_override_bps: int
    out_override_bps: int


def note_speeds(changes: Iterable[SpeedChange]) -> None:
    """Write down from when on interfaces are measured against which speeds."""
    rows = []
    for change in changes:
        in_bps, in_source = chosen(change.port_bps, change.from_high_speed, change.in_override_bps or None)
        out_bps, out_source = chosen(change.port_bps, change.from_high_speed, change.out_override_bps or None)
        rows.append(
            InterfaceSpeed(
                interface_id=change.interface,
                since=change.at,
                port_bps=change.port_bps,
                in_bps=in_bps,
                out_bps=out_bps,
                in_source=in_source,
                out_source=out_source,
            )
        )
    InterfaceSpeed.objects.bulk_create(rows)
