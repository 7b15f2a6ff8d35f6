"""Access points at a time: whose they are, at which port they are plugged in, and who is there in which network."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from datetime import datetime

from django.db.models import Count, Q
from django.db.models.functions import Collate
from django.utils import timezone

from lumtar.core.topology import Evidence
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.topology import queries, stations, wireless
from lumtar.domain.topology.models import AccessPoint


@dataclass(frozen=True, slots=True)
class PluggedIn:
    """The port of a device at which something is, since when, and how that is known."""

    device: int
    interface: int
    since: datetime
    evidence: Evidence


@dataclass(slots=True)
class AccessPointRow:
    """An access point at a time.

    Attributes
    ----------
    device : the device of the inventory that it is itself, if it is one
    networks : how many clients each network has there
    """

    point: AccessPoint
    device: int | None
    plugged_in: PluggedIn | None
    networks: dict[str, int] = field(default_factory=dict)

    @property
    def clients(self) -> int:
        """In all networks."""
        return sum(self.networks.values())


def find(
    past: datetime | None = None, *, network: str = "", words: str = "", only: int | None = None
) -> list[AccessPointRow]:
    """The access points at a time, in the order of their names; None is now.

    Parameters
    ----------
    network : those with a client in this one
    words : parts of names, addresses and MAC addresses; all of them have to be found
    only : those of this controller
    """
    at = past or timezone.now()
    rows = AccessPoint.objects.filter(Q(gone_at=None) | Q(gone_at__gt=at), since__lte=at, controller__retired_at=None)
    for word in words.split()[:8]:
        rows = rows.filter(
            Q(name__icontains=word)
            | Q(mac__icontains=word)
            | Q(address__startswith=word)
            | Q(controller__name__icontains=word)
        )
    if only is not None:
        rows = rows.filter(controller=only)
    counted: dict[int, dict[str, int]] = {}
    grouped = wireless.clients_at(at).values_list("access_point_id", "network")
    for point, name, number in grouped.annotate(number=Count("pk")).order_by("network"):
        counted.setdefault(point, {})[name] = number
    points = list(rows.select_related("controller").order_by(Collate("name", "natural"), "pk"))
    if network:
        points = [each for each in points if network in counted.get(each.pk, {})]
    devices, ports = _devices(points), plugged_in({each.mac for each in points if each.mac}, past)
    return [
        AccessPointRow(each, devices.get(each.pk), ports.get(each.mac), counted.get(each.pk, {})) for each in points
    ]


def _devices(points: Collection[AccessPoint]) -> dict[int, int]:
    """The devices of the inventory that access points are themselves."""
    macs = {each.mac for each in points if each.mac}
    addresses = {each.address for each in points if each.address}
    known = Device.objects.filter(retired_at=None)
    by_mac = dict(known.filter(base_mac__in=macs).values_list("base_mac", "pk"))
    by_mac |= dict(
        Interface.objects.filter(mac__in=macs, gone_at=None, device__retired_at=None).values_list("mac", "device_id")
    )
    by_address = dict(known.filter(address__in=addresses).values_list("address", "pk"))
    found = {}
    for each in points:
        device = each.controller_id if not each.key else by_mac.get(each.mac) or by_address.get(each.address or "")
        if device is not None:
            found[each.pk] = device
    return found


def plugged_in(macs: Collection[str], past: datetime | None) -> Mapping[str, PluggedIn]:
    """The ports at which some MAC addresses are at a time: what a device sees there by LLDP before what a bridge hears."""
    found: dict[str, PluggedIn] = {}
    for each in stations.whereabouts(macs, past):
        if each.here is not None:
            found[each.mac] = PluggedIn(each.here.device, each.here.interface, each.here.since, Evidence.FORWARDING)
    seen = queries.seen_at(past or timezone.now()).filter(
        chassis__in=macs, interface__isnull=False, device__retired_at=None
    )
    for mac, device, interface, since in seen.values_list("chassis", "device_id", "interface_id", "since"):
        found[mac] = PluggedIn(device, interface or 0, since, Evidence.ONE_END)
    return found
