"""Finding the links that follow from forwarding tables, where devices tell of no neighbours."""

from collections.abc import Iterable

from django.db import transaction
from django.utils import timezone

from lumtar.core.topology.bridging import Forwarding
from lumtar.core.topology.inference import Inferred, infer
from lumtar.core.topology.macs import mac_number
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.operation.services import announce
from lumtar.domain.topology import other_ends
from lumtar.domain.topology.models import Bridge, InferredLink, ManualLink, Neighbour, PortLayer2

Ends = tuple[int, int | None, int, int | None]


@transaction.atomic
def infer_links() -> int:
    """Work out the inferred links anew. Returns how many came and went."""
    now = timezone.now()
    tables = {
        pk: Forwarding.of_packed(bytes(piece))
        for pk, piece in Bridge.objects.filter(device__retired_at=None)
        .values_list("device_id", "forwarding")
        .iterator()
    }
    wanted = {_ends(each): each for each in (infer(tables, _owners(), _taken()) if tables else ())}
    known = {
        (row.a_device_id, row.a_interface_id, row.b_device_id, row.b_interface_id): row
        for row in InferredLink.objects.filter(gone_at=None)
    }
    gone = [row.pk for ends, row in known.items() if ends not in wanted]
    InferredLink.objects.filter(pk__in=gone).update(gone_at=now)
    new = [
        InferredLink(
            a_device_id=a, a_interface_id=a_port, b_device_id=b, b_interface_id=b_port, since=now,
            contradiction=_contradiction(each),
        )
        for (a, a_port, b, b_port), each in wanted.items()
        if (a, a_port, b, b_port) not in known
    ]  # fmt: skip
    InferredLink.objects.bulk_create(new)
    if new or gone:
        rows = [*new, *(row for row in known.values() if row.pk in gone)]
        other_ends.write({device for row in rows for device in (row.a_device_id, row.b_device_id)})
        announce("topology")
    return len(new) + len(gone)


def _ends(each: Inferred) -> Ends:
    return each.a.device, each.a.port, each.b.device, each.b.port


def _contradiction(each: Inferred) -> str:
    if each.shared == 1:
        return ""
    return f"{each.shared} devices are at this port: something is between that is not in the inventory"


def _owners() -> dict[int, tuple[int, int | None]]:
    """MAC addresses that are one device's alone, with its port if it is one port's alone."""
    devices = Device.objects.filter(retired_at=None)
    own = [(mac, pk, None) for pk, mac in devices.exclude(base_mac="").values_list("pk", "base_mac")]
    own += [(mac, pk, None) for pk, mac in Bridge.objects.exclude(address="").values_list("device_id", "address")]
    ports = Interface.objects.filter(gone_at=None, device__retired_at=None).exclude(mac="")
    return _of_one(own, ports.values_list("mac", "device_id", "pk").iterator())


def _of_one(
    own: Iterable[tuple[str, int, None]], ports: Iterable[tuple[str, int, int]]
) -> dict[int, tuple[int, int | None]]:
    places: dict[int, set[tuple[int, int | None]]] = {}
    for text, device, port in (*own, *ports):
        if number := mac_number(text):
            places.setdefault(number, set()).add((device, port))
    found: dict[int, tuple[int, int | None]] = {}
    for number, at in places.items():
        (device, *others) = {device for device, _ in at}
        known = {port for _, port in at if port is not None}
        if not others:
            found[number] = device, known.pop() if len(known) == 1 else None
    return found


def _taken() -> set[int]:
    """Ports of which it is known already where they lead, with the aggregates that they are members of."""
    seen = Neighbour.objects.filter(gone_at=None).exclude(to_device=None)
    entered = ManualLink.objects.filter(gone_at=None)
    ports: set[int | None] = set()
    for rows, names in ((seen, ("interface_id", "to_interface_id")), (entered, ("a_interface_id", "b_interface_id"))):
        for name in names:
            ports |= set(rows.values_list(name, flat=True))
    members = PortLayer2.objects.filter(interface__in=ports - {None}).exclude(aggregate=None)
    ports |= set(members.values_list("aggregate_id", flat=True))
    return {port for port in ports if port is not None}
