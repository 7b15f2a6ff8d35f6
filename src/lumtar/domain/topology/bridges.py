"""Keeping what devices tell of themselves as bridges: spanning tree, VLANs, aggregates, forwarding tables."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from lumtar.core.counters import TICKS
from lumtar.core.topology import bridging
from lumtar.core.topology.addressing import Addresses
from lumtar.core.topology.bridging import PortVlans, Role
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.logbook.models import Entry
from lumtar.domain.topology.models import Bridge, PortLayer2

HOUR_S = 3600.0
LEAST_S = 600.0
"""A few changes between two looks that happen to be close are no storm."""
UP = 1
CARRYING = frozenset((Role.ROOT, Role.DESIGNATED, Role.ALTERNATE))
"""Roles between which a port changes when the tree does."""


@dataclass(frozen=True, slots=True)
class Ports:
    """The interfaces of a device: number by ifIndex, and what they are called."""

    of_index: Mapping[int, int]
    labels: Mapping[int, str]

    @classmethod
    def of(cls, device: int) -> "Ports":
        """Those that it lists now."""
        rows = list(
            Interface.objects.filter(device=device, gone_at=None).values_list("if_index", "pk", "label", "name")
        )
        return cls({index: pk for index, pk, _, _ in rows}, {pk: label or name for _, pk, label, name in rows})

    def number(self, if_index: int | None) -> int | None:
        """The number of an interface; None if the device does not list it."""
        return self.of_index.get(if_index) if if_index is not None else None


def keep(device: int, told: bridging.Bridge, own: Addresses, ports: Ports, at: datetime) -> bool:
    """Keep what a device tells of its bridge. Returns whether its tree, its aggregates or its VLANs are others than before."""
    before = Bridge.objects.filter(device=device).first()
    table, tree = told.forwarding.at_ports(ports.of_index), told.tree
    root_interface = ports.number(tree.root_port)
    is_other = before is not None and before.root != "" and before.root != tree.root
    Bridge.objects.update_or_create(
        device_id=device,
        defaults={
            "at": at,
            "address": told.address,
            "forwarding": table.packed(),
            "stations": len(table),
            "root": tree.root,
            "root_interface_id": root_interface,
            "root_cost": tree.root_cost,
            "root_since": at if is_other else before.root_since if before else None,
            "changes": tree.changes,
            "changes_per_hour": _changes_per_hour(before, tree.changes, at),
            "vlans": {str(number): name for number, name in sorted(told.vlans.items())},
        },
    )
    changed = _keep_ports(device, told, own, ports, at)
    if is_other and before is not None:
        words = tree.root or "none: it tells of no spanning tree any more"
        _note(device, None, f"another spanning-tree root: {words} (was {before.root})", at)
    return is_other or changed


def keep_ports(device: int, own: Addresses, ports: Ports, at: datetime) -> bool:
    """Keep what is known of the ports of a device that is no bridge."""
    Bridge.objects.filter(device=device).delete()
    return _keep_ports(device, bridging.Bridge(), own, ports, at)


def _changes_per_hour(before: Bridge | None, changes: int | None, at: datetime) -> float | None:
    """Topology changes an hour since the look before; None where that cannot be known."""
    if before is None or before.changes is None or changes is None:
        return None
    seconds = (at - before.at).total_seconds()
    # Counter32 (RFC 4188); a bridge that was restarted begins at zero.
    more = changes - before.changes
    if more < 0:
        more = more + int(TICKS) if more < -(int(TICKS) // 2) else changes
    return more * HOUR_S / max(seconds, LEAST_S)


def _keep_ports(device: int, told: bridging.Bridge, own: Addresses, ports: Ports, at: datetime) -> bool:
    known = {row.interface_id: row for row in PortLayer2.objects.filter(interface__device=device)}
    down = _down(device) if any(row.aggregate_id for row in known.values()) else set()
    wanted = {*told.ports, *told.aggregates, *told.tree.roles, *own.mtus, *own.carriers}
    new, changed, notes = [], [], []
    for if_index in sorted(wanted & ports.of_index.keys()):
        number = ports.of_index[if_index]
        vlans, role = told.ports.get(if_index, PortVlans()), told.tree.roles.get(if_index)
        row = known.pop(number, None)
        is_new = row is None
        row = row or PortLayer2(interface_id=number)
        was = (row.aggregate_id, row.pvid, row.tagged, row.untagged, row.mtu, row.stp_role, row.carriers)
        # A port that goes down or comes up is news of its own.
        if not is_new and role in CARRYING and row.stp_role in CARRYING and row.stp_role != role:
            row.stp_since = at
            if {row.stp_role, role} & {Role.ROOT, Role.ALTERNATE}:
                notes.append((number, f"{ports.labels[number]} is {role} in the spanning tree (was {row.stp_role})"))
        if (aggregate := ports.number(told.aggregates.get(if_index))) is not None or number not in down:
            # While it is down a port is attached to nothing; it is meant for its aggregate all the same.
            row.aggregate_id = aggregate
        row.pvid, row.tagged, row.untagged = vlans.pvid, list(vlans.tagged), list(vlans.untagged)
        row.mtu, row.stp_role = own.mtus.get(if_index, 0), role or ""
        row.carriers = [ports.of_index[each] for each in own.carriers.get(if_index, ()) if each in ports.of_index]
        if is_new:
            new.append(row)
        elif was != (row.aggregate_id, row.pvid, row.tagged, row.untagged, row.mtu, row.stp_role, row.carriers):
            changed.append(row)
    # A member that is down is told of by nothing, and is a member all the same.
    known = {number: row for number, row in known.items() if not (number in down and row.aggregate_id)}
    PortLayer2.objects.filter(interface__in=known).delete()
    PortLayer2.objects.bulk_create(new)
    fields = ["aggregate", "stp_role", "stp_since", "pvid", "tagged", "untagged", "mtu", "carriers"]
    PortLayer2.objects.bulk_update(changed, fields, batch_size=500)
    for number, words in notes:
        _note(device, number, words, at)
    return bool(new or changed or known)


def _down(device: int) -> set[int]:
    """The ports of a device that are down, or of which that is not known."""
    rows = Interface.objects.filter(device=device, gone_at=None).exclude(newest__oper=UP)
    return set(rows.values_list("pk", flat=True))


def _note(device: int, interface: int | None, words: str, at: datetime) -> None:
    name = Device.objects.values_list("name", flat=True).get(pk=device)
    text = f"{name}: {words}"[:400]
    Entry.objects.create(at=at, kind=Entry.Kind.TOPOLOGY, device_id=device, interface_id=interface, text=text)
