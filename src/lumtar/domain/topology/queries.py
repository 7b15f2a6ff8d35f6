"""Links and neighbours, now and at any past time."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime

from django.db.models import Q, QuerySet

from lumtar.core.topology import End, Link, Sighting, links
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
    return [SeenLink(link, max(since[key] for key in link.sightings)) for link in links(sightings)]


def strangers_at(at: datetime, devices: Collection[int] | None = None) -> QuerySet[Neighbour]:
    """Neighbours that are not in the inventory, or not clearly one device of it."""
    rows = seen_at(at).filter(to_device=None, device__retired_at=None).select_related("device", "interface")
    return (rows.filter(device__in=devices) if devices is not None else rows).order_by("device__name", "local_port")
