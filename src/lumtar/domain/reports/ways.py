"""The way between two ends at a time: hop by hop, with what each link carries, other ways, and how it was a day before."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from django.db.models import Q
from django.utils import timezone

from lumtar.core.refusal import Refusal
from lumtar.core.topology.ways import stations, ways
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.reports import network
from lumtar.domain.reports.network import TRANSPORT, MapLink

DAY = timedelta(days=1)
NO_WAY = ("down", "silent")


@dataclass(slots=True)
class Ways:
    """What leads from one end to the other.

    Attributes
    ----------
    ways : the shortest one, then others that share no link with those before; each link from its nearer end
    is_broken : there is none now; what is told leads over links that are down
    yesterday : the cards along the shortest one a day before, if it was another one
    unseen : transports on the shortest one, in which nothing is seen
    """

    start: str
    goal: str
    ways: list[list[MapLink]]
    is_broken: bool
    yesterday: list[str]
    unseen: list[str]


def between(start: str, goal: str, past: datetime | None) -> Ways:
    """The ways between two ends, each named by a device's name, address or MAC address, or by the MAC address of a port.

    Raises
    ------
    Refusal
        if an end is not known, or not clearly one
    """
    begin, end = _device(start, "start"), _device(goal, "goal")
    keys = [f"device-{each.pk}" for each in (begin, end)]
    links = network.links_of_devices(past)
    found = _ways(links, *keys)
    is_broken = not found
    if is_broken:
        found = _ways(links, *keys, with_down=True)[:1]
    first = found[0] if found else []
    earlier = network.links_of_devices((past or timezone.now()) - DAY) if first else []
    before = next(iter(_ways(earlier, *keys)), [])
    return Ways(
        begin.name,
        end.name,
        found,
        is_broken,
        _names(before) if before and _cards(before) != _cards(first) else [],
        [link.b.device for link in first if link.b.node.startswith(TRANSPORT)],
    )


def _device(words: str, field: str) -> Device:
    named = Q(name__iexact=words) | Q(address=words) | Q(sys_name__iexact=words) | Q(base_mac__iexact=words)
    at_port = Interface.objects.filter(mac__iexact=words, gone_at=None).values("device")
    found = list(Device.objects.filter(named | Q(pk__in=at_port), retired_at=None)[:2]) if words.strip() else []
    if not found:
        raise Refusal(
            f"No device of the inventory is called {words}, or has this address. What is plugged in elsewhere is not known yet.",
            field,
        )
    if len(found) > 1:
        raise Refusal(f"Several devices are called {words}; name one by its address.", field)
    return found[0]


def _ways(links: Sequence[MapLink], start: str, goal: str, *, with_down: bool = False) -> list[list[MapLink]]:
    edges = [(link.a.node, link.b.node) for link in links]
    without = [] if with_down else [place for place, link in enumerate(links) if link.state in NO_WAY]
    found = []
    for way in ways(edges, start, goal, without):
        passed = stations(edges, start, way)
        found.append([_from(links[place], here) for place, here in zip(way, passed, strict=False)])
    return found


def _from(link: MapLink, here: str) -> MapLink:
    """The link from its nearer end."""
    if link.a.node == here:
        return link
    return replace(link, a=link.b, b=link.a, there=link.back, back=link.there)


def _cards(way: Sequence[MapLink]) -> list[str]:
    return [way[0].a.node, *(link.b.node for link in way)] if way else []


def _names(way: Sequence[MapLink]) -> list[str]:
    return [way[0].a.device, *(link.b.device for link in way)]
