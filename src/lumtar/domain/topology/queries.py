"""Links, neighbours and transports, now and at any past time."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime

from django.db.models import Q, QuerySet

from lumtar.core.topology import End, Link, Sighting, links
from lumtar.domain.inventory import groups
from lumtar.domain.inventory.models import Group
from lumtar.domain.topology.by_hand import entered_at
from lumtar.domain.topology.models import Neighbour


def seen_at(at: datetime) -> QuerySet[Neighbour]:
    """The neighbours that were seen at a time."""
    return Neighbour.objects.filter(Q(gone_at=None) | Q(gone_at__gt=at), since__lte=at)


@dataclass(frozen=True, slots=True)
class SeenLink:
    """A link, and since when it has been there as it is: the latest of what was seen of it."""

    link: Link
    since: datetime


def links_at(at: datetime, device: int | None = None) -> list[SeenLink]:
    """The links between devices of the inventory at a time, all of them or those of one device."""
    rows = seen_at(at).exclude(to_device=None).filter(device__retired_at=None, to_device__retired_at=None)
    if device is not None:
        rows = rows.filter(Q(device=device) | Q(to_device=device))
    since, sightings = {}, []
    for pk, here, port, there, other, began in rows.values_list(
        "pk", "device_id", "interface_id", "to_device_id", "to_interface_id", "since"
    ):
        since[pk] = began
        sightings.append(Sighting(pk, End(here, port), End(there or 0, other)))
    by_hand, entered = [], entered_at(at).filter(a_device__retired_at=None, b_device__retired_at=None)
    if device is not None:
        entered = entered.filter(Q(a_device=device) | Q(b_device=device))
    for row in entered:
        since[-row.pk] = row.since
        by_hand.append(
            Sighting(row.pk, End(row.a_device_id, row.a_interface_id), End(row.b_device_id, row.b_interface_id))
        )
    return [
        SeenLink(link, max(since[key] for key in link.sightings or (-(link.entered or 0),)))
        for link in links(sightings, by_hand)
    ]


def transports() -> dict[Group, list[int]]:
    """Groups whose ports are joined by a network that is not ours, with their ports as they are now."""
    return {group: sorted(groups.polled_ports(group.pk)) for group in Group.objects.filter(is_transport=True)}


def strangers_at(at: datetime, devices: Collection[int] | None = None) -> QuerySet[Neighbour]:
    """Neighbours that are not in the inventory, or not clearly one device of it."""
    rows = seen_at(at).filter(to_device=None, device__retired_at=None).select_related("device", "interface")
    return (rows.filter(device__in=devices) if devices is not None else rows).order_by("device__name", "local_port")
