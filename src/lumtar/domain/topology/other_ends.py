"""What is at the other end of ports, written beside them: lists show it, and conditions of label rules and groups ask for it."""

from collections.abc import Collection

from django.utils import timezone

from lumtar.domain.inventory.labelling import label_ports, uses_neighbours
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.topology import queries

FEW = 10
"""Of more devices than these all links are looked at together."""
Told = tuple[str, str]
"""The name of a device, and its kind."""


def write(devices: Collection[int]) -> int:
    """Write down what is at the other end of the ports of some devices now. Returns at how many that is something else."""
    now = timezone.now()
    names = Device.objects.filter(pk__in=devices).values("name")
    # Whoever was at the other end until now may have nobody there any more.
    stale = Interface.objects.filter(gone_at=None, neighbour__in=names).exclude(neighbour="")
    devices = {*devices, *stale.values_list("device_id", flat=True)}
    wanted: dict[int, Told] = {}
    for row in queries.strangers_at(now, devices):
        if row.interface_id is not None:
            wanted.setdefault(row.interface_id, (row.sys_name or row.chassis, ""))
    few = len(devices) <= FEW
    found = [each for device in devices for each in queries.links_at(now, device)] if few else queries.links_at(now)
    seen = [each.link for each in found if each.link.a.device in devices or each.link.b.device in devices]
    ends = [(here, there) for link in seen for here, there in ((link.a, link.b), (link.b, link.a))]
    known = Device.objects.filter(pk__in={there.device for _, there in ends}).select_related("profile")
    named = {each.pk: (each.name, each.profile.kind if each.profile else "") for each in known}
    for here, there in ends:
        if here.port is not None and here.device != there.device and there.device in named:
            wanted[here.port] = named[there.device]
    rows = Interface.objects.filter(device__in=devices, gone_at=None) | Interface.objects.filter(pk__in=wanted)
    changed = []
    for port in rows.distinct():
        name, kind = wanted.get(port.pk, ("", ""))
        if (port.neighbour, port.neighbour_kind) != (name[:255], kind):
            port.neighbour, port.neighbour_kind = name[:255], kind
            changed.append(port)
    Interface.objects.bulk_update(changed, ["neighbour", "neighbour_kind"], batch_size=500)
    if changed and uses_neighbours():
        label_ports(only=[port.pk for port in changed])
    return len(changed)
