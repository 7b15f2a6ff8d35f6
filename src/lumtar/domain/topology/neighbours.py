"""Keeping what devices tell of their neighbours, and finding out who these are."""

from collections.abc import Sequence
from datetime import datetime

from django.db import transaction
from django.db.models import CharField, Func, Q, Value
from django.db.models.functions import Lower

from lumtar.core.topology import Identifier, Inventory, KnownDevice, KnownPort
from lumtar.core.topology import Neighbour as Told
from lumtar.core.topology.identifiers import IdKind
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.services import announce
from lumtar.domain.topology import other_ends
from lumtar.domain.topology.models import Neighbour

MOST_NEWS = 6
"""Neighbours of one look that the logbook names one by one."""


Key = tuple[str, str, str, str, str]


def _key(told: Told) -> Key:
    return (
        told.local_port, told.chassis.kind, told.chassis.value, told.port.kind, told.port.value,
    )  # fmt: skip


def _kept_key(row: Neighbour) -> Key:
    return row.local_port, row.chassis_kind, row.chassis, row.port_kind, row.port


def keep(device: int, neighbours: Sequence[Told], at: datetime, *, is_first: bool) -> bool:
    """Keep what a device told of its neighbours. Returns whether anything is another than before.

    Parameters
    ----------
    is_first : it is asked for the first time, so that nothing of it is news, and others may have seen it already
    """
    known = {_kept_key(row): row for row in Neighbour.objects.filter(device=device, gone_at=None)}
    told = {_key(each): each for each in neighbours}
    ports = dict(Interface.objects.filter(device=device, gone_at=None).values_list("if_index", "pk"))
    new = [_row(device, each, ports, at) for key, each in told.items() if key not in known]
    gone = [row for key, row in known.items() if key not in told]
    changed = [row for key, row in known.items() if key in told and _renew(row, told[key], ports)]
    Neighbour.objects.bulk_create(new)
    Neighbour.objects.filter(pk__in=[row.pk for row in gone]).update(gone_at=at)
    Neighbour.objects.bulk_update(changed, ["port_descr", "sys_name", "sys_descr", "addresses", "interface"])
    if not is_first:
        _note(device, new, gone, at)
    mine = Q(pk__in=[row.pk for row in (*new, *changed)])
    if is_first:
        # Others may have seen it already, and not known who it is.
        identify(mine | _may_be(device))
    elif new or changed:
        identify(mine)
    return bool(new or gone or changed)


def _may_be(device: int) -> Q:
    """Neighbours that nobody knows and that give a sign of this device."""
    name, sys_name, address, mac = Device.objects.values_list("name", "sys_name", "address", "base_mac").get(pk=device)
    signs = Q(addresses__contains=[address]) | Q(chassis__iexact=address)
    for sign in {name, sys_name} - {""}:
        signs |= Q(sys_name__iexact=sign) | Q(sys_name__istartswith=f"{sign.split('.')[0]}.") | Q(chassis__iexact=sign)
    if mac:
        signs |= Q(chassis__iexact=mac)
    return Q(to_device=None) & signs


def _row(device: int, told: Told, ports: dict[int, int], at: datetime) -> Neighbour:
    row = Neighbour(
        device_id=device, local_port=told.local_port[:255], chassis_kind=told.chassis.kind, chassis=told.chassis.value,
        port_kind=told.port.kind, port=told.port.value, since=at,
    )  # fmt: skip
    _renew(row, told, ports)
    return row


def _renew(row: Neighbour, told: Told, ports: dict[int, int]) -> bool:
    """Take over what else it says; whether that is something else."""
    said = {
        "port_descr": told.port_descr[:255],
        "sys_name": told.sys_name[:255],
        "sys_descr": told.sys_descr[:255],
        "addresses": list(told.addresses),
        "interface_id": ports.get(told.if_index) if told.if_index is not None else None,
    }
    is_other = any(getattr(row, name) != value for name, value in said.items())
    for name, value in said.items():
        setattr(row, name, value)
    return is_other


def _note(device: int, new: Sequence[Neighbour], gone: Sequence[Neighbour], at: datetime) -> None:
    """Neighbours that came and went are news."""
    name = Device.objects.values_list("name", flat=True).get(pk=device)
    for rows, words in ((gone, "no longer sees"), (new, "sees")):
        texts = [f"{name} {row.local_port} {words} {row.sys_name or row.chassis}, port {row.port}" for row in rows]
        if len(texts) > MOST_NEWS:
            texts = [f"{name} {words} {len(texts)} {'new ' if rows is new else ''}neighbours"]
        Entry.objects.bulk_create(
            Entry(
                at=at,
                kind=Entry.Kind.TOPOLOGY,
                device_id=device,
                interface_id=row.interface_id if len(texts) == len(rows) else None,
                text=text[:400],
            )
            for text, row in zip(texts, rows, strict=False)
        )


def candidates(told: Sequence[Told]) -> Inventory:
    """The devices that some neighbours may be by any sign that they give, with their ports.

    All devices with a sign are among them, so that one which several share is known to be shared.
    """
    names = {each.sys_name.lower() for each in told} | {each.chassis.value.lower() for each in told}
    addresses = {each.chassis.value for each in told} | {address for each in told for address in each.addresses}
    macs = {each.chassis.value.lower() for each in told if each.chassis.kind is IdKind.MAC}
    called = Q(lower_name__in=names) | Q(lower_sys_name__in=names)
    hosts = {each.sys_name.lower().split(".")[0] for each in told} - {""}
    named = Device.objects.filter(retired_at=None).annotate(
        lower_name=Lower("name"), lower_sys_name=Lower("sys_name"), **{
            f"host_{name}": Func(Lower(name), Value("."), Value(1), function="split_part", output_field=CharField())
            for name in ("name", "sys_name")
        },
    )  # fmt: skip
    by_port = Interface.objects.filter(gone_at=None, mac__in=macs).values("device")
    may_be = called | Q(host_name__in=hosts) | Q(host_sys_name__in=hosts) | Q(address__in=addresses)
    devices = list(
        named.filter(may_be | Q(base_mac__in=macs) | Q(pk__in=by_port)).values_list(
            "pk", "name", "sys_name", "address", "base_mac"
        )
    )
    ports = Interface.objects.filter(gone_at=None, device__in=[device[0] for device in devices])
    return Inventory.of(
        [KnownDevice(pk, name, sys, (address,), (mac,) if mac else ()) for pk, name, sys, address, mac in devices],
        [KnownPort(*row) for row in ports.values_list("pk", "device_id", "if_index", "name", "descr", "alias", "mac")],
    )


def told_of(row: Neighbour) -> Told:
    """A kept neighbour as the device told of it."""
    return Told(
        None,
        row.local_port,
        Identifier(IdKind(row.chassis_kind), row.chassis),
        Identifier(IdKind(row.port_kind), row.port),
        row.port_descr,
        row.sys_name,
        row.sys_descr,
        tuple(row.addresses),
    )


@transaction.atomic
def identify(which: Q | None = None) -> int:
    """Find out anew who neighbours are that are seen now, all of them or some. Returns of how many that changed."""
    rows = list(Neighbour.objects.filter(which or Q(), gone_at=None))
    if not rows:
        return 0
    told = [told_of(row) for row in rows]
    known, changed = candidates(told), []
    for row, each in zip(rows, told, strict=True):
        match = known.find(each)
        found = match.device, match.port, match.reason[:300]
        if found != (row.to_device_id, row.to_interface_id, row.reason):
            row.to_device_id, row.to_interface_id, row.reason = found
            changed.append(row)
    Neighbour.objects.bulk_update(changed, ["to_device", "to_interface", "reason"], batch_size=500)
    if changed:
        other_ends.write({row.device_id for row in changed})
        announce("topology")
    return len(changed)
