"""Parts of the network that a map shows alone: one VLAN, one wireless network, the storage network.

Places stay where they are on the whole map.
"""

import re
from dataclasses import dataclass, replace
from datetime import datetime

from django.db.models import Q, QuerySet
from django.utils import timezone

from lumtar.core.labels import Role
from lumtar.core.profiles import DeviceKind
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.reports import access_points
from lumtar.domain.reports.network import Network
from lumtar.domain.topology import wireless
from lumtar.domain.topology.models import Bridge, PortLayer2

STORAGE = "storage"
WIRELESS = "wireless-"
"""Before the name (SSID) of a wireless network."""
FIBRE_CHANNEL = 56
"""IANAifType."""


@dataclass(frozen=True, slots=True)
class Part:
    """A part by its name, and what it is called."""

    name: str
    words: str


def parts() -> list[Part]:
    """The parts that there are now."""
    named: dict[int, str] = {}
    for vlans in Bridge.objects.filter(device__retired_at=None).order_by("device_id").values_list("vlans", flat=True):
        for number, name in vlans.items():
            named[int(number)] = named.get(int(number)) or name
    found = [Part(f"vlan-{number}", f"VLAN {number} {name}".rstrip()) for number, name in sorted(named.items())]
    found += [Part(f"{WIRELESS}{name}", f"wireless network {name}") for name, _ in wireless.networks(timezone.now())]
    return [*found, Part(STORAGE, "storage network")] if _storage().exists() else found


def wireless_network(part: str) -> str:
    """The wireless network that a part is; empty if it is something else."""
    return part.removeprefix(WIRELESS) if part.startswith(WIRELESS) else ""


def _storage() -> QuerySet[Interface]:
    return Interface.objects.filter(gone_at=None, device__retired_at=None).filter(
        Q(role=Role.STORAGE) | Q(if_type=FIBRE_CHANNEL) | Q(device__profile__kind=DeviceKind.STORAGE)
    )


def only(whole: Network, part: str, past: datetime | None = None) -> Network:
    """A map with a part of the network alone: the links at its ports, and the cards that these are in.

    Of a wireless network: its access points, what they are plugged in at, who controls them, and the links between these.

    Raises
    ------
    Refusal
        if there is no such part
    """
    if network := wireless_network(part):
        return _only_wireless(whole, network, past)
    ports = _ports(part)
    links = [
        link for link in whole.links if any(end.port is not None and end.port.id in ports for end in (link.a, link.b))
    ]
    rows = Interface.objects.filter(pk__in=ports).values_list("device_id", "device__site_id").distinct()
    inside = {key for device, site in rows for key in (f"device-{device}", f"site-{site or 0}")}
    inside |= {end.node for link in links for end in (link.a, link.b)}
    return replace(whole, nodes=[node for node in whole.nodes if node.key in inside], links=links)


def _only_wireless(whole: Network, network: str, past: datetime | None) -> Network:
    points = access_points.find(past, network=network)
    devices = {each.point.controller_id for each in points} | {each.device for each in points if each.device}
    devices |= {each.plugged_in.device for each in points if each.plugged_in}
    rows = Device.objects.filter(pk__in=devices).values_list("pk", "site_id")
    inside = {key for device, site in rows for key in (f"device-{device}", f"site-{site or 0}")}
    inside |= {f"points-{each.plugged_in.device}" for each in points if each.plugged_in}
    return replace(
        whole,
        nodes=[node for node in whole.nodes if node.key in inside],
        links=[link for link in whole.links if {link.a.node, link.b.node} <= inside],
    )


def _ports(part: str) -> set[int]:
    if part == STORAGE:
        return set(_storage().values_list("pk", flat=True))
    if not (match := re.fullmatch(r"vlan-(\d{1,4})", part)):
        raise Refusal(
            f"There is no part {part[:40]} of the network; choose a VLAN, a wireless network or the storage network.",
            "part",
        )
    vlan = int(match[1])
    carries = Q(tagged__contains=[vlan]) | Q(untagged__contains=[vlan])
    own = set(PortLayer2.objects.filter(carries).values_list("interface_id", flat=True))
    # Frames of an aggregate go over its members.
    return own | set(PortLayer2.objects.filter(aggregate__in=own).values_list("interface_id", flat=True))
