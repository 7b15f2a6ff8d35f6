"""Whatever somebody names as an end of a way: a device, a port of one, or a station by its MAC address or address."""

import ipaddress
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db.models import Q
from django.utils import timezone

from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.reports import access_points
from lumtar.domain.topology import stations, wireless
from lumtar.domain.topology.models import OwnAddress


@dataclass(frozen=True, slots=True)
class Place:
    """An end of a way.

    Attributes
    ----------
    name : what it is called
    port, port_label : the device's port that it is at, if it is a station or a port itself
    address : its address, if it is known
    note : what else is known of where it is; may be empty
    """

    device: int
    name: str
    port: int | None = None
    port_label: str = ""
    address: str = ""
    note: str = ""


def find(words: str, field: str, past: datetime | None) -> Place:
    """The end that words name.

    Raises
    ------
    Refusal
        if it is not known, or not clearly one
    """
    wanted = words.strip()
    if not wanted:
        raise Refusal("Name a device, a port (device and port), an address or a MAC address.", field)
    for look in (_device, _own_address, _port):
        if (found := look(wanted, field)) is not None:
            return found
    if (station := _station(wanted, past)) is not None:
        return station
    raise Refusal(f"Nothing is known that is called {wanted}, or has this address, at this time.", field)


def _device(words: str, field: str) -> Place | None:
    named = Q(name__iexact=words) | Q(address=words) | Q(sys_name__iexact=words) | Q(base_mac__iexact=words)
    at_port = Interface.objects.filter(mac__iexact=words, gone_at=None).values("device")
    found = list(Device.objects.filter(named | Q(pk__in=at_port), retired_at=None)[:2])
    if len(found) > 1:
        raise Refusal(f"Several devices are called {words}; name one by its address.", field)
    return Place(found[0].pk, found[0].name) if found else None


def _own_address(words: str, field: str) -> Place | None:
    """A device by one of the addresses that its interfaces have."""
    try:
        address = str(ipaddress.ip_address(words))
    except ValueError:
        return None
    rows = OwnAddress.objects.filter(address=address, device__retired_at=None).select_related("device")
    devices = {row.device_id: row.device.name for row in rows}
    if len(devices) > 1:
        # The same address at several routers is nobody's end.
        raise Refusal(f"{address} is an address of {', '.join(sorted(devices.values())[:3])}; name one of them.", field)
    return Place(*devices.popitem(), address=address) if devices else None


def _port(words: str, field: str) -> Place | None:
    """A port: its device and its name or label, with a space between."""
    found: list[Interface] = []
    parts = words.split()
    for place in range(1, len(parts)):
        device, port = " ".join(parts[:place]), " ".join(parts[place:])
        rows = Interface.objects.filter(device__name__iexact=device, device__retired_at=None, gone_at=None)
        found += rows.filter(Q(name__iexact=port) | Q(label__iexact=port)).select_related("device")[:2]
    if len(found) > 1:
        raise Refusal(f"Several ports are called {words}; name one by its ifName.", field)
    return Place(found[0].device_id, str(found[0].device), found[0].pk, found[0].label) if found else None


def _station(words: str, past: datetime | None) -> Place | None:
    """A station by its MAC address or address, at the port where it is at that time."""
    macs = stations.macs_of(words, past or timezone.now())
    here = next((each for each in stations.whereabouts(macs, past) if each.here), None)
    if here is None or here.here is None:
        return _wireless(words, macs, past)
    port = Interface.objects.select_related("device").get(pk=here.here.interface)
    note = f"{here.mac} is at {port.device} {port.label}"
    if here.shared:
        note += f", with {here.shared} others: what is between is not in the inventory"
    # What was asked for if it is an address, else one of IPv4 before one of IPv6.
    addresses = sorted(here.addresses, key=lambda each: (each != words.lower(), ":" in each))
    return Place(port.device_id, words, port.pk, port.label, addresses[0] if addresses else "", note)


def _wireless(words: str, macs: Sequence[str], past: datetime | None) -> Place | None:
    """A wireless client, at the port where its access point is plugged in."""
    at = past or timezone.now()
    stays = [row for rows in wireless.stays_of(macs, at).values() for row in rows]
    here = next((row for row in stays if row.gone_at is None or row.gone_at > at), None)
    if here is None:
        return None
    point = here.access_point
    note = f"{here.mac} is in {here.network} at access point {point.name}"
    ports = access_points.plugged_in([point.mac], past) if point.mac else {}
    if (found := ports.get(point.mac)) is None:
        return Place(here.device_id, words, None, "", here.address or "", f"{note}, as its controller tells")
    port = Interface.objects.select_related("device").get(pk=found.interface)
    return Place(
        port.device_id, words, port.pk, port.label, here.address or "", f"{note}, at {port.device} {port.label}"
    )
