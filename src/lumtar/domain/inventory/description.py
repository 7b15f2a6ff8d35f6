"""Taking over what devices say of themselves."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Any, NamedTuple

from django.db import transaction
from django.utils import timezone

from lumtar.core.discovery import ComponentDescribed, Described, PortDescribed
from lumtar.core.interface_matching import Port, match_interfaces
from lumtar.core.port_changes import compare_ports
from lumtar.core.profiles import Recognition, Table
from lumtar.core.refusal import Refusal
from lumtar.core.speeds import NOT_CREDIBLE, SpeedSource, chosen
from lumtar.core.units import rate
from lumtar.domain.inventory.labelling import Labeller, label_ports, uses_speed
from lumtar.domain.inventory.models import Component, Device, Interface, InterfaceDuplex, InterfaceSpeed
from lumtar.domain.inventory.profiles import is_recognised, objects_of, recognise_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.logbook.services import note_action

FASTEST = 10**13
IDENTITY = {
    "sys_name": "sysName",
    "sys_object_id": "sysObjectID",
    "maker": "maker",
    "model": "model",
    "serial": "serial number",
    "software": "software",
    "engine_id": "SNMP engine id",
}
"""What a device is known by, in the words of its logbook."""
OF_ENTITY = ("maker", "model", "serial", "software")
"""What the inventory table alone tells."""
SAID = ("if_index", "name", "descr", "alias", "if_type", "mac")
"""What a device says of each port."""
KEPT = (*SAID, "label", "role", "tags", "gone_at")
"""What is kept of each port."""


class KnownComponent(NamedTuple):
    """A component as it is kept."""

    pk: int
    name: str
    unit: str
    scale: float


def is_known(
    device: Device,
    interfaces: Mapping[int, Interface],
    stored: Mapping[tuple[str, str], KnownComponent],
    recognitions: Sequence[Recognition],
    said: Described,
    ports: Sequence[PortDescribed],
    components: Sequence[ComponentDescribed],
) -> bool:
    """Whether a device, its interfaces by index and its components by (kind, index) say nothing that is not known of them.

    To describe it would change nothing then, and wait for the database all the same.
    """
    said = _as_read(device, said)
    return (
        device.name != device.address
        and all(getattr(device, name) == getattr(said, name) for name in Described.__dataclass_fields__)
        and is_recognised(device, recognitions)
        and len(ports) == len(interfaces)
        and all(
            (known := interfaces.get(port.if_index)) is not None
            and all(getattr(known, name) == getattr(port, name) for name in SAID)
            for port in ports
        )
        and {key: part[1:] for key, part in stored.items()}
        == {(part.kind, part.index): (part.name, part.unit, part.scale) for part in components}
    )


def _as_read(device: Device, said: Described) -> Described:
    """What its profile does not read is not gone."""
    unread = () if Table.ENTITY in objects_of(device)[0] else OF_ENTITY
    return replace(said, **{name: getattr(device, name) for name in unread})


def describe(
    device: Device,
    said: Described,
    ports: Sequence[PortDescribed],
    components: Sequence[ComponentDescribed],
    now: datetime,
) -> tuple[dict[int, Interface], dict[tuple[str, str], Component]]:
    """Take over what a device says of itself; what came, went or was renamed goes to the logbook.

    Returns
    -------
    interfaces by index and components by (kind, index), as far as the device lists them
    """
    with transaction.atomic():
        said = _as_read(device, said)
        changed = [name for name in Described.__dataclass_fields__ if getattr(device, name) != getattr(said, name)]
        _note_changes(device, said, changed, now)
        for name in changed:
            setattr(device, name, getattr(said, name))
        if device.name == device.address and said.sys_name:
            device.name = said.sys_name[:120]
            changed.append("name")
        changed += recognise_device(device)
        if changed:
            device.save(update_fields=changed)
        interfaces = _describe_ports(device, ports, now)
        component_ids = _describe_components(device, components, now)
    return interfaces, component_ids


def _note_changes(device: Device, said: Described, changed: Sequence[str], now: datetime) -> None:
    """A device that is another one than it was, or runs another software, is news."""
    news = []
    for name, word in IDENTITY.items():
        before, after = getattr(device, name), getattr(said, name)
        if name in changed and before:
            news.append(f"{device.name}: {word} is {after or 'not said'} now, was {before}")
    Entry.objects.bulk_create(
        [Entry(at=now, kind=Entry.Kind.INVENTORY, device=device, text=text[:400]) for text in news]
    )


def _describe_ports(device: Device, ports: Sequence[PortDescribed], now: datetime) -> dict[int, Interface]:
    known = {interface.pk: interface for interface in device.interfaces.all()}
    matched = match_interfaces(
        [Port(i.pk, i.if_index, i.name, i.descr, i.alias, i.mac, i.gone_at is not None) for i in known.values()],
        [Port(n, p.if_index, p.name, p.descr, p.alias, p.mac) for n, p in enumerate(ports)],
    )
    interfaces = [
        known.get(matched.get(place, 0)) or Interface(device=device, first_seen=now) for place in range(len(ports))
    ]
    labeller = Labeller()
    listed = [_values(labeller, device, *pair) for pair in zip(interfaces, ports, strict=True)]
    changes = compare_ports(
        {pk: {name: getattr(interface, name) for name in KEPT} for pk, interface in known.items()},
        listed,
        matched,
        is_read=Table.INTERFACES in objects_of(device)[0],
    )
    for place in (*changes.new, *changes.changed):
        for name, value in listed[place].items():
            setattr(interfaces[place], name, value)
    for key in changes.gone:
        # Its index may belong to another port by now.
        known[key].gone_at, known[key].if_index = now, -key
    Interface.objects.bulk_create([interfaces[place] for place in changes.new])
    # An upsert: Django's bulk_update costs a hundred times as much for a large switch.
    Interface.objects.bulk_create(
        [*(interfaces[place] for place in changes.changed), *(known[key] for key in changes.gone)],
        update_conflicts=True,
        unique_fields=["id"],
        update_fields=KEPT,
    )
    Entry.objects.bulk_create(
        [
            Entry(at=now, kind=Entry.Kind.INVENTORY, device=device, interface=known.get(key or 0), text=text[:400])
            for key, text in changes.news
        ]
    )
    return {port.if_index: interface for port, interface in zip(ports, interfaces, strict=True)}


BEYOND = ("neighbour", "neighbour_kind")
"""What is known of the other end of a port."""


def _values(labeller: Labeller, device: Device, interface: Interface, port: PortDescribed) -> dict[str, Any]:
    """A port as it is to be kept: as the device describes it now, named and classed by the rules and by what people set."""
    said = {name: getattr(port, name) for name in SAID}
    own = {name: getattr(interface, name) for name in ("own_label", "own_role", "own_tags", *BEYOND)}
    decided = labeller.decide(Interface(device_id=device.pk, **said, **own), device, port.speed_bps)
    return {**said, "label": decided.label, "role": decided.role, "tags": dict(decided.tags), "gone_at": None}


def _describe_components(
    device: Device, components: Sequence[ComponentDescribed], now: datetime
) -> dict[tuple[str, str], Component]:
    Component.objects.bulk_create(
        [
            Component(device=device, kind=p.kind, index=p.index, name=p.name, unit=p.unit, scale=p.scale)
            for p in components
        ],
        update_conflicts=True,
        unique_fields=["device", "kind", "index"],
        update_fields=["name", "unit", "scale", "gone_at"],
    )
    listed = {(part.kind, part.index) for part in components}
    known = list(device.components.all())
    gone = [each.pk for each in known if not each.gone_at and (each.kind, each.index) not in listed]
    Component.objects.filter(pk__in=gone).update(gone_at=now)
    return {(each.kind, each.index): each for each in known if (each.kind, each.index) in listed}


@dataclass(frozen=True, slots=True)
class SpeedChange:
    """The speed of an interface's port was seen to be this, in bits per second."""

    interface: int
    at: datetime
    port_bps: int
    from_high_speed: bool
    in_override_bps: int
    out_override_bps: int
    is_credible: bool = True


def note_speeds(changes: Iterable[SpeedChange]) -> None:
    """Write down from when on interfaces are measured against which speeds."""
    rows = []
    for change in changes:
        in_bps, in_source = chosen(
            change.port_bps, change.from_high_speed, change.in_override_bps or None, is_credible=change.is_credible
        )
        out_bps, out_source = chosen(
            change.port_bps, change.from_high_speed, change.out_override_bps or None, is_credible=change.is_credible
        )
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
    if rows and uses_speed():
        label_ports(only=[row.interface_id for row in rows])


def note_duplex(modes: Mapping[int, tuple[float, int]]) -> None:
    """Keep the duplex of some interfaces: since when (seconds of the epoch) and which (dot3StatsDuplexStatus)."""
    for duplex in {mode for _, mode in modes.values()}:
        mine = [pk for pk, (_, mode) in modes.items() if mode == duplex]
        Interface.objects.filter(pk__in=mine).update(duplex=duplex)
    InterfaceDuplex.objects.bulk_create(
        [
            InterfaceDuplex(interface_id=pk, since=datetime.fromtimestamp(since, UTC), duplex=duplex)
            for pk, (since, duplex) in modes.items()
        ]
    )


@transaction.atomic
def override_speed(pk: int, in_bps: int | None, out_bps: int | None, by: str) -> None:
    """Measure a port against what is sold instead of against its own speed, from now on; None takes it back.

    Raises
    ------
    Refusal
        with a sentence for the person who entered it
    Interface.DoesNotExist
    """
    for bps in (in_bps, out_bps):
        if bps is not None and not 1_000 <= bps <= FASTEST:
            raise Refusal("A sold speed must be between 1 kb/s and 10 Tb/s; leave it empty for the port's own.")
    interface = Interface.objects.select_for_update(of=("self",)).select_related("device").get(pk=pk)
    interface.in_override_bps, interface.out_override_bps = in_bps, out_bps
    interface.save(update_fields=["in_override_bps", "out_override_bps"])
    last = interface.speeds.order_by("-since").first()
    own = interface.speeds.exclude(in_source=SpeedSource.OVERRIDE).order_by("-since").first()
    from_high = own is None or own.in_source == SpeedSource.HIGH_SPEED
    port_bps = last.port_bps if last else 0
    newest = interface.newest if hasattr(interface, "newest") else None
    is_credible = newest is None or newest.excess < NOT_CREDIBLE
    change = SpeedChange(pk, timezone.now(), port_bps, from_high, in_bps or 0, out_bps or 0, is_credible)
    note_speeds([change])
    sold = [f"{rate(bps)} {way}" for bps, way in ((in_bps, "in"), (out_bps, "out")) if bps]
    note_action(
        f"{interface.label} is sold as {', '.join(sold)}"
        if sold
        else f"{interface.label} is measured by its own speed",
        by,
        interface=interface,
    )
