"""Taking over what devices say of themselves."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction

from lumtar.core.discovery import Described, PartDescribed, PortDescribed
from lumtar.core.speeds import chosen
from lumtar.core.text import port_label
from lumtar.domain.inventory.models import Component, Device, Interface, InterfaceSpeed
from lumtar.domain.logbook.models import Entry


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
