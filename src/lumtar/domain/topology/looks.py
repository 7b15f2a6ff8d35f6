"""What a device tells of what is around it, kept in one transaction: neighbours, bridge, stations, addresses, routes, wireless."""

from collections.abc import Sequence, Sized
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction

from lumtar.core.topology import Neighbour as Told
from lumtar.core.topology.addressing import Addresses
from lumtar.core.topology.bridging import Bridge, Forwarding
from lumtar.core.topology.routing import Route
from lumtar.core.topology.wireless import Wireless
from lumtar.domain.inventory.models import Device
from lumtar.domain.operation.services import announce
from lumtar.domain.topology import bridges, neighbours, other_ends, routing, stations, wireless
from lumtar.domain.topology.bridges import Ports
from lumtar.domain.topology.models import NeighbourLook


@dataclass(frozen=True, slots=True)
class Looked:
    """What asking a device came to. What is None was not asked for, or not answered, and stays as it was.

    ``problem`` says why not everything was answered, ``note`` what was left out on purpose.
    """

    at: datetime
    took_ms: float
    requests: int
    neighbours: Sequence[Told] | None = None
    problem: str = ""
    bridge: Bridge | None = None
    addresses: Addresses | None = None
    routes: Sequence[Route] | None = None
    wireless: Wireless | None = None
    note: str = ""


@transaction.atomic
def keep(device: int, looked: Looked) -> bool:
    """Keep what a device told. Returns whether anything is another than before.

    After a look that failed everything stays as it was.
    """
    if not Device.objects.filter(pk=device).exists():
        # It was deleted while it was asked.
        return False
    before = NeighbourLook.objects.filter(device=device).first()
    counts: dict[str, Sized | None] = {
        "neighbours": looked.neighbours,
        "stations": looked.bridge.forwarding if looked.bridge else None,
        "bindings": looked.addresses.bindings if looked.addresses else None,
        "routes": looked.routes,
        "clients": looked.wireless.clients if looked.wireless else None,
    }
    NeighbourLook.objects.update_or_create(
        device_id=device,
        defaults={
            "at": looked.at,
            "took_ms": looked.took_ms,
            "requests": looked.requests,
            "problem": (looked.problem or looked.note)[:300],
            **{
                name: getattr(before, name, 0) if rows is None and looked.problem else len(rows or ())
                for name, rows in counts.items()
            },
        },
    )
    is_other = False
    if looked.neighbours is not None:
        is_other = neighbours.keep(device, looked.neighbours, looked.at, is_first=before is None)
    ports = Ports.of(device)
    told = looked.addresses
    if told is not None:
        is_other |= stations.keep_addresses(device, told, ports, looked.at)
    if looked.routes is not None:
        is_other |= routing.keep(device, looked.routes, ports, looked.at)
    if looked.wireless is not None:
        is_other |= wireless.keep(device, looked.wireless, looked.at)
    if looked.bridge is not None:
        is_other |= bridges.keep(device, looked.bridge, told or Addresses(), ports, looked.at)
        stations.keep_stations(device, looked.bridge.forwarding.at_ports(ports.of_index), looked.at)
    elif told is not None and not looked.problem:
        # It is no bridge; what its ports carry at most is known all the same.
        is_other |= bridges.keep_ports(device, told, ports, looked.at)
        stations.keep_stations(device, Forwarding(), looked.at)
    if is_other:
        other_ends.write([device])
        announce("topology")
    return is_other
