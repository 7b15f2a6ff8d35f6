"""Links, neighbours and transports, now and at any past time."""

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from django.db.models import Q, QuerySet
from django.utils import timezone

from lumtar.core.topology import End, Link, Sighting, links
from lumtar.domain.inventory import groups
from lumtar.domain.inventory.models import Group, Interface
from lumtar.domain.topology.models import InferredLink, ManualLink, Neighbour


def seen_at(at: datetime) -> QuerySet[Neighbour]:
    """The neighbours that were seen at a time."""
    return Neighbour.objects.filter(Q(gone_at=None) | Q(gone_at__gt=at), since__lte=at)


def entered_at(at: datetime) -> QuerySet[ManualLink]:
    """The links by hand that were there at a time."""
    return ManualLink.objects.filter(Q(gone_at=None) | Q(gone_at__gt=at), since__lte=at)


TOLD, INFERRED, ENTERED = "told", "inferred", "entered"
"""Where a link is known from, beside its number there."""
LOST_FOR = timedelta(days=1)
"""A link that nobody sees any more is remembered for so long, unless something else is seen at one of its ports."""


@dataclass(frozen=True, slots=True)
class SeenLink:
    """A link, and since when it has been there as it is: the latest of what was seen of it.

    ``lost_at`` is when it was seen last, if nobody sees it any more.
    """

    link: Link
    since: datetime
    lost_at: datetime | None = None


def links_at(at: datetime, device: int | None = None, *, lost_for: timedelta = timedelta(0)) -> list[SeenLink]:
    """The links between devices of the inventory at a time, all of them or those of one device.

    Parameters
    ----------
    lost_for : links are told as well that were seen last no longer ago, and have no other one in their place
    """
    rows = Neighbour.objects.filter(Q(gone_at=None) | Q(gone_at__gt=at - lost_for), since__lte=at)
    rows = rows.exclude(to_device=None).filter(device__retired_at=None, to_device__retired_at=None)
    if device is not None:
        rows = rows.filter(Q(device=device) | Q(to_device=device))
    since: dict[tuple[str, int], datetime] = {}
    sightings, lost = [], {}
    for pk, here, port, there, other, began, gone in rows.order_by("since").values_list(
        "pk", "device_id", "interface_id", "to_device_id", "to_interface_id", "since", "gone_at"
    ):
        since[TOLD, pk] = began
        if gone is not None and gone <= at:
            lost[pk] = gone
        sightings.append(Sighting(pk, End(here, port), End(there or 0, other)))
    if lost:
        sightings = _without_replaced(sightings, lost)
    inferred = _inferred_at(at, device, lost_for)
    since |= {(INFERRED, row.pk): row.since for row in inferred}
    by_hand, entered = [], entered_at(at).filter(a_device__retired_at=None, b_device__retired_at=None)
    if device is not None:
        entered = entered.filter(Q(a_device=device) | Q(b_device=device))
    for row in entered:
        since[ENTERED, row.pk] = row.since
        by_hand.append(
            Sighting(row.pk, End(row.a_device_id, row.a_interface_id), End(row.b_device_id, row.b_interface_id))
        )
    no_more = {row.pk: row.gone_at for row in inferred if row.gone_at is not None and row.gone_at <= at}
    follows = [
        Sighting(row.pk, End(row.a_device_id, row.a_interface_id), End(row.b_device_id, row.b_interface_id))
        for row in inferred
    ]
    says = {row.pk: row.contradiction for row in inferred}
    return [_seen(link, since, lost, no_more, says) for link in links(sightings, by_hand, follows)]


def _inferred_at(at: datetime, device: int | None, lost_for: timedelta) -> list[InferredLink]:
    rows = InferredLink.objects.filter(Q(gone_at=None) | Q(gone_at__gt=at - lost_for), since__lte=at)
    rows = rows.filter(a_device__retired_at=None, b_device__retired_at=None)
    if device is not None:
        rows = rows.filter(Q(a_device=device) | Q(b_device=device))
    there = [row for row in rows if row.gone_at is None or row.gone_at > at]
    # What is there goes before what was: a port leads to one device.
    taken = {port for row in there for port in (row.a_interface_id, row.b_interface_id) if port is not None}
    was = [row for row in rows if row not in there and taken.isdisjoint((row.a_interface_id, row.b_interface_id))]
    return there + was


def _without_replaced(sightings: Iterable[Sighting], lost: Mapping[int, datetime]) -> list[Sighting]:
    """What is seen, and of what is not seen any more the latest one at each port where nothing else is."""
    listed = list(sightings)
    kept = [each for each in listed if each.key not in lost]
    taken: dict[End, frozenset[End]] = {}
    for each in kept:
        taken |= dict.fromkeys(_ports(each), frozenset[End]())
    for each in sorted((each for each in listed if each.key in lost), key=lambda one: lost[one.key], reverse=True):
        ends = _ports(each)
        # Both devices may have told of the same link, which is one.
        if all(taken.get(end, ends) == ends for end in ends):
            kept.append(each)
            taken |= dict.fromkeys(ends, ends)
    return kept


def _ports(sighting: Sighting) -> frozenset[End]:
    return frozenset(end for end in (sighting.here, sighting.there) if end.port is not None)


def _seen(
    link: Link,
    since: Mapping[tuple[str, int], datetime],
    lost: Mapping[int, datetime],
    gone: Mapping[int, datetime],
    says: Mapping[int, str],
) -> SeenLink:
    if link.inferred is not None:
        told = replace(link, contradiction=link.contradiction or says[link.inferred])
        return SeenLink(told, since[INFERRED, link.inferred], gone.get(link.inferred))
    begun = max(since[each] for each in [(TOLD, key) for key in link.sightings] or [(ENTERED, link.entered or 0)])
    if link.entered is None and all(key in lost for key in link.sightings):
        return SeenLink(link, begun, max(lost[key] for key in link.sightings))
    return SeenLink(link, begun)


def seen_by(addresses: Collection[str], name: str) -> str:
    """The device of the inventory that sees something by LLDP now which has one of some addresses, or a name; empty if none does."""
    is_it = Q(addresses__overlap=list(addresses))
    if name:
        is_it |= Q(sys_name__iexact=name)
    rows = seen_at(timezone.now()).filter(is_it, device__retired_at=None).order_by("device__name")
    return rows.values_list("device__name", flat=True).first() or ""


def transports() -> dict[Group, dict[int, int]]:
    """Groups whose ports are joined by a network that is not ours, with their ports as they are now, and the device of each."""
    inside = {group: sorted(groups.polled_ports(group.pk)) for group in Group.objects.filter(is_transport=True)}
    every = {port for ports in inside.values() for port in ports}
    devices = dict(Interface.objects.filter(pk__in=every).values_list("pk", "device_id"))
    return {group: {port: devices[port] for port in ports if port in devices} for group, ports in inside.items()}


def joined(now: datetime) -> list[tuple[End, End]]:
    """The ends of all links, those included that are not seen any more since something failed; of a transport the number is below zero."""
    found = [(each.link.a, each.link.b) for each in links_at(now, lost_for=LOST_FOR)]
    for group, ports in transports().items():
        found += [(End(device, port), End(-group.pk, None)) for port, device in ports.items()]
    return found


def strangers_at(at: datetime, devices: Collection[int] | None = None) -> QuerySet[Neighbour]:
    """Neighbours that are not in the inventory, or not clearly one device of it."""
    rows = seen_at(at).filter(to_device=None, device__retired_at=None).select_related("device", "interface")
    return (rows.filter(device__in=devices) if devices is not None else rows).order_by("device__name", "local_port")
