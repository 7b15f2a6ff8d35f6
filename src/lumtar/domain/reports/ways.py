"""The way between two ends at a time: hop by hop, with what each link carries, other ways, and how it was a day before."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import pairwise

from django.utils import timezone

from lumtar.core.topology.bridging import Role
from lumtar.core.topology.ways import stations, ways
from lumtar.domain.reports import network, routed
from lumtar.domain.reports.ends import Place, find
from lumtar.domain.reports.network import TRANSPORT, LinkEnd, MapLink
from lumtar.domain.reports.routed import Routed
from lumtar.domain.topology.models import PortLayer2

DAY = timedelta(days=1)
NO_WAY = ("down", "silent")
MOST = 3


@dataclass(slots=True)
class Ways:
    """What leads from one end to the other.

    Attributes
    ----------
    start, goal : the two ends
    ways : the shortest one, then others that share no link with those before; each link from its nearer end
    is_broken : there is none now; what is told leads over links that are down
    yesterday : the cards along the shortest one a day before, if it was another one
    unseen : transports on the shortest one, in which nothing is seen
    notes : where the two ends are, and by what packets between them are routed
    """

    start: Place
    goal: Place
    ways: list[list[MapLink]]
    is_broken: bool
    yesterday: list[str]
    unseen: list[str]
    notes: list[str]


def between(start: str, goal: str, past: datetime | None) -> Ways:
    """The ways between two ends, each named as :func:`lumtar.domain.reports.ends.find` takes it.

    Raises
    ------
    Refusal
        if an end is not known, or not clearly one
    """
    begin, end = find(start, "start", past), find(goal, "goal", past)
    over = routed.between(begin, end, past)
    stops = _stops(begin, over, end)
    links = network.links_of_devices(past)
    blocked = _blocked() if past is None else set()
    found = _over(links, stops, blocked, over.leaving)
    is_broken = not found
    if is_broken:
        found = _over(links, stops, leaving=over.leaving, with_down=True)[:1]
    first = found[0] if found else []
    before = _a_day_before(begin, end, past or timezone.now()) if first else []
    return Ways(
        begin,
        end,
        found,
        is_broken,
        _names(before) if before and _cards(before) != _cards(first) else [],
        [link.b.device for link in first if link.b.node.startswith(TRANSPORT)],
        [*(each.note for each in (begin, end) if each.note), *over.notes],
    )


def _stops(begin: Place, over: Routed, end: Place) -> list[str]:
    return [f"device-{number}" for number in (begin.device, *over.devices, end.device)]


def _a_day_before(begin: Place, end: Place, at: datetime) -> list[MapLink]:
    """The shortest way a day before."""
    then = at - DAY
    links, over = network.links_of_devices(then), routed.between(begin, end, then)
    return next(iter(_over(links, _stops(begin, over, end), leaving=over.leaving)), [])


def _blocked() -> set[int]:
    """Ports over which nothing goes now, since the spanning tree leads elsewhere."""
    return set(PortLayer2.objects.filter(stp_role=Role.ALTERNATE).values_list("interface_id", flat=True))


def _over(
    links: Sequence[MapLink],
    stops: Sequence[str],
    blocked: Collection[int] = (),
    leaving: Mapping[int, int] | None = None,
    *,
    with_down: bool = False,
) -> list[list[MapLink]]:
    """The ways from stop to stop: the shortest, and others that differ between two of the stops.

    Those that leave a device where its routes lead go before shorter ones.
    """
    legs = [_ways(links, *pair, blocked, with_down=with_down) for pair in pairwise(stops) if pair[0] != pair[1]]
    for leg in legs:
        leg.sort(key=lambda way: not _leaves_by_route(way[0].a, leaving or {}))
    if not legs:
        return [[]]
    if not all(legs):
        return []
    found = [[link for leg in legs for link in leg[0]]]
    for place, leg in enumerate(legs):
        for other in leg[1:]:
            found.append([link for at, each in enumerate(legs) for link in (other if at == place else each[0])])
    return found[:MOST]


def _leaves_by_route(end: LinkEnd, leaving: Mapping[int, int]) -> bool:
    return end.port is not None and end.device_id is not None and leaving.get(end.device_id) == end.port.id


def _ways(
    links: Sequence[MapLink], start: str, goal: str, blocked: Collection[int], *, with_down: bool = False
) -> list[list[MapLink]]:
    edges = [(link.a.node, link.b.node) for link in links]
    without = [] if with_down else [place for place, link in enumerate(links) if _is_no_way(link, blocked)]
    found = []
    for way in ways(edges, start, goal, without, MOST):
        passed = stations(edges, start, way)
        found.append([_from(links[place], here) for place, here in zip(way, passed, strict=False)])
    return found


def _is_no_way(link: MapLink, blocked: Collection[int]) -> bool:
    return link.state in NO_WAY or any(end.port is not None and end.port.id in blocked for end in (link.a, link.b))


def _from(link: MapLink, here: str) -> MapLink:
    """The link from its nearer end."""
    if link.a.node == here:
        return link
    return replace(link, a=link.b, b=link.a, there=link.back, back=link.there)


def _cards(way: Sequence[MapLink]) -> list[str]:
    return [way[0].a.node, *(link.b.node for link in way)] if way else []


def _names(way: Sequence[MapLink]) -> list[str]:
    return [way[0].a.device, *(link.b.device for link in way)]
