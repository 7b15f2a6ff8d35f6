"""Where devices send packets, over time."""

from collections.abc import Collection, Sequence
from datetime import datetime, timedelta

from django.db.models import Q, QuerySet

from lumtar.core.topology import routing
from lumtar.domain.topology.bridges import Ports
from lumtar.domain.topology.models import Route

KEPT = timedelta(days=90)
Key = tuple[str, str | None, int | None, str, int, bool]
NAMES = ("network", "next_hop", "interface_id", "protocol", "metric", "is_discarding")


def _key(told: routing.Route, ports: Ports) -> Key:
    interface = ports.number(told.if_index)
    return told.network, told.next_hop or None, interface, told.protocol[:16], told.metric, told.is_discarding


def keep(device: int, told: Sequence[routing.Route], ports: Ports, at: datetime) -> bool:
    """Keep the routes of a device. Returns whether any of them is another than before."""
    wanted = dict.fromkeys(_key(each, ports) for each in told)
    rows = Route.objects.filter(device=device, gone_at=None).values_list("pk", *NAMES)
    known: dict[Key, int] = {key: pk for pk, *values in rows if (key := tuple(values))}
    gone = [pk for key, pk in known.items() if key not in wanted]
    new = [key for key in wanted if key not in known]
    Route.objects.filter(pk__in=gone).update(gone_at=at)
    Route.objects.bulk_create(
        (Route(device_id=device, since=at, **dict(zip(NAMES, key, strict=True))) for key in new), batch_size=5000
    )
    return bool(gone or new)


def routes_at(devices: Collection[int], at: datetime) -> QuerySet[Route]:
    """The routes of some devices at a time."""
    return Route.objects.filter(Q(gone_at=None) | Q(gone_at__gt=at), since__lte=at, device__in=devices)


def table_at(device: int, at: datetime) -> routing.RoutingTable:
    """The routes of a device at a time, to look addresses up in; ``if_index`` is the number of the interface."""
    rows = routes_at([device], at).values_list(*NAMES)
    return routing.RoutingTable(
        [
            routing.Route(network, hop or "", interface or 0, protocol, metric, is_discarding)
            for network, hop, interface, protocol, metric, is_discarding in rows
        ]
    )


def forget(now: datetime) -> int:
    """Forget routes that ended long ago. Returns how many those were."""
    return Route.objects.filter(gone_at__lt=now - KEPT).delete()[0]
