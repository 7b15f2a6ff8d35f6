"""What the map shows at a time: sites, devices, access points and transports as nodes, links with what they carry, where all that stands."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

from django.db import connection
from django.db.models.functions import Collate
from django.utils import timezone

from lumtar.core.topology import End, Evidence, Link
from lumtar.core.topology.layout import Card
from lumtar.domain.inventory.models import Group, Site
from lumtar.domain.inventory.scope import NO_SITE
from lumtar.domain.reports import access_points, cells, devices, ports
from lumtar.domain.reports.access_points import AccessPointRow
from lumtar.domain.reports.devices import DeviceRow
from lumtar.domain.reports.ports import PortRow
from lumtar.domain.topology import positions, queries

SITE_CARD, DEVICE_CARD = Card(124, 74), Card(132, 78)
MOST_DEVICES = 20_000
MOST_WITH_CELLS = 400
"""More cards than these are never seen at a size that shows ports."""
SILENT = -3
TRANSPORT = "transport"
ACCESS_POINTS = "access points"


@dataclass(slots=True)
class Node:
    """A card on the map.

    Attributes
    ----------
    key : "site-3", "device-5", "transport-2", "points-5" (those plugged in at device 5); "site-0" are the devices without a site
    devices : how many are in it; of a transport the ports that it joins
    severity : the worst of what is active there, 0 if nothing is
    cells : loads of its ports, of a site the highest of each device, as in cells.SiteCells
    is_outside : it only shows where links of the shown site lead
    members, networks : of access points, names and MAC addresses, and how many clients each wireless network has there
    """

    key: str
    kind: str
    name: str
    devices: int = 0
    silent: int = 0
    severity: int = 0
    site: str = ""
    address: str = ""
    model: str = ""
    serial: str = ""
    mac: str = ""
    cells: list[float] = field(default_factory=list)
    is_outside: bool = False
    members: list[str] = field(default_factory=list)
    networks: dict[str, int] = field(default_factory=dict)
    x: float = 0.0
    y: float = 0.0


@dataclass(slots=True)
class LinkEnd:
    """One end of a link on the map: the card, and the port behind it. A transport has no device."""

    node: str
    device: str
    device_id: int | None
    port: PortRow | None


@dataclass(slots=True)
class Lane:
    """What a link carries one way."""

    bps: float | None
    percent: float | None


@dataclass(slots=True)
class MapLink:
    """A link between two cards, how it is known, and what it carries from a to b (``there``) and back.

    ``lost_at`` is when it was seen last, if nobody sees it any more. ``state`` is up, down, silent (neither end answers) or unknown (no end names a port).
    """

    a: LinkEnd
    b: LinkEnd
    evidence: str
    contradiction: str
    since: datetime | None
    lost_at: datetime | None
    entered: int | None
    speed_bps: float | None
    there: Lane
    back: Lane
    error_rate: float | None
    state: str


@dataclass(slots=True)
class Network:
    """A map: its name, which positions are kept by, with its nodes and links."""

    map: str
    nodes: list[Node]
    links: list[MapLink]


def at_time(
    past: datetime | None,
    site: str | None,
    *,
    of_devices: bool = False,
    person: int | None = None,
    keep: bool = True,
    wireless: str = "",
) -> Network:
    """The map of all sites, of one site's devices, or of all devices.

    Parameters
    ----------
    past : a past time; None is now
    site : the devices of this one, and where their links lead
    of_devices : all devices, without a site
    person : whose own arrangement is asked for
    keep : whether places of what is new are kept
    wireless : access points of this wireless network alone; of all networks inside a site, on other maps none
    """
    rows, _ = devices.find(past, limit=MOST_DEVICES)
    places = {row.id: _place(row, site, of_devices=of_devices) for row in rows}
    sites = dict(Site.objects.order_by(Collate("name", "natural")).values_list("name", "pk"))
    inside = of_devices or site is not None
    transports = queries.transports()
    points = access_points.find(past, network=wireless) if wireless or site is not None else []
    links = _links(past, {row.id: row.name for row in rows}, places, sites, transports, points, inside=inside)
    joined = {end.node for link in links for end in (link.a, link.b)}
    nodes = _nodes(
        rows, places, joined, sites, transports, _loads(past, site, len(rows), of_devices=of_devices), inside=inside
    )
    hanging = {link.b.node: link.a.node for link in links if link.b.node.startswith("points-")}
    name = f"site-{sites.get(site, 0)}" if site else "devices" if of_devices else "sites"
    card = SITE_CARD if name == "sites" else DEVICE_CARD
    edges = [(link.a.node, link.b.node) for link in links if link.b.node not in hanging]
    tops = {node.key for node in nodes if node.is_outside or node.kind == TRANSPORT}
    keys = [node.key for node in nodes]
    spots = positions.of_map(
        name, keys, edges, card, tops=tops, hanging=hanging, person=person, keep=keep and past is None
    )
    nodes += _points_nodes(points, links, hanging)
    for node in nodes:
        node.x, node.y = (round(value, 1) for value in spots[node.key])
    return Network(name, nodes, links)


def links_of_devices(past: datetime | None) -> list[MapLink]:
    """All links between devices and transports at a time, with what they carry; None is now."""
    rows, _ = devices.find(past, limit=MOST_DEVICES)
    names = {row.id: row.name for row in rows}
    return _links(past, names, dict.fromkeys(names), {}, queries.transports(), (), inside=True)


def _place(row: DeviceRow, site: str | None, *, of_devices: bool) -> str | None:
    """The name of the site that a device is a part of on this map; None if it is a card of its own."""
    here = row.site or NO_SITE
    return None if of_devices or here == site else here


def _loads(past: datetime | None, site: str | None, number: int, *, of_devices: bool) -> dict[int, list[float]]:
    if of_devices and number > MOST_WITH_CELLS:
        return {}
    return cells.loads_of_devices(past, site)


def _nodes(
    rows: Iterable[DeviceRow],
    places: Mapping[int, str | None],
    joined: Collection[str],
    sites: Mapping[str, int],
    transports: Mapping[Group, Mapping[int, int]],
    loads: Mapping[int, list[float]],
    *,
    inside: bool,
) -> list[Node]:
    """Cards in the order of names; ``inside`` a site or among devices, what is elsewhere is shown only where links lead to it."""
    found: dict[str, Node] = {}
    for row in rows:
        silent, place = row.reach == "silent", places[row.id]
        if place is None:
            found[f"device-{row.id}"] = Node(
                f"device-{row.id}", "device", row.name, 1, int(silent), row.severity, row.site or "", row.address,
                row.model, row.serial, row.mac, loads.get(row.id, []),
            )  # fmt: skip
            continue
        key = f"site-{sites.get(place, 0)}"
        if inside and key not in joined:
            continue
        node = found.setdefault(key, Node(key, "site", place, is_outside=inside))
        node.devices += 1
        node.silent += silent
        node.severity = max(node.severity, row.severity)
        if not inside:
            node.cells.append(SILENT if silent else max(loads.get(row.id, [-1.0])))
    for group, numbers in transports.items():
        key = f"transport-{group.pk}"
        if key in joined:
            found[key] = Node(key, TRANSPORT, group.name, len(numbers), is_outside=inside)
    order = {name: place for place, name in enumerate(sites)}

    def place_of(node: Node) -> tuple[bool, bool, int]:
        return node.kind != TRANSPORT, node.is_outside, order.get(node.name, -1) if node.kind == "site" else 0

    return sorted(found.values(), key=place_of)


def _points_nodes(points: Sequence[AccessPointRow], links: Sequence[MapLink], hanging: Collection[str]) -> list[Node]:
    """A card for the access points that are plugged in at a device."""
    loads = {
        link.b.device: max(link.there.percent or 0.0, link.back.percent or 0.0)
        for link in links
        if link.b.node in hanging
    }
    found: dict[str, Node] = {}
    for row in points:
        key = f"points-{row.plugged_in.device}" if row.plugged_in else ""
        if key not in hanging or row.device is not None:
            continue
        node = found.setdefault(key, Node(key, ACCESS_POINTS, ""))
        is_away = row.point.is_up is False
        node.devices += 1
        node.silent += is_away
        node.name = row.point.name if node.devices == 1 else f"{node.devices} access points"
        node.cells.append(SILENT if is_away else loads.get(row.point.name, 0.0))
        node.members += [each for each in (row.point.name, row.point.mac) if each]
        for network, clients in row.networks.items():
            node.networks[network] = node.networks.get(network, 0) + clients
    return list(found.values())


def _links(
    past: datetime | None,
    names: Mapping[int, str],
    places: Mapping[int, str | None],
    sites: Mapping[str, int],
    transports: Mapping[Group, Mapping[int, int]],
    points: Sequence[AccessPointRow],
    *,
    inside: bool,
) -> list[MapLink]:
    """Links between different cards; those of access points lead from the port at which each is plugged in."""

    def node(device: int) -> str:
        place = places[device]
        return f"device-{device}" if place is None else f"site-{sites.get(place, 0)}"

    is_shown = {device: place is None or not inside for device, place in places.items()}
    seen = [
        each
        for each in queries.links_at(past or timezone.now(), lost_for=queries.LOST_FOR)
        if each.link.evidence is not Evidence.ITSELF
        and each.link.a.device in places
        and each.link.b.device in places
        and node(each.link.a.device) != node(each.link.b.device)
        and (is_shown[each.link.a.device] or is_shown[each.link.b.device])
    ]
    wanted = {end.port for each in seen for end in (each.link.a, each.link.b) if end.port is not None}
    plugged = [
        (each.point, each.plugged_in)
        for each in points
        if each.device is None and each.plugged_in is not None and places.get(each.plugged_in.device, "") is None
    ]
    wanted |= {at.interface for _, at in plugged}
    wanted |= {number for there in transports.values() for number, device in there.items() if is_shown.get(device)}
    state = _Ports(past, wanted)
    found = []
    for each in seen:
        a, b = (
            LinkEnd(node(end.device), names[end.device], end.device, state.port(end))
            for end in (each.link.a, each.link.b)
        )
        link = each.link
        found.append(state.link(a, b, link, each.since, each.lost_at))
    for group, there in transports.items():
        beyond = LinkEnd(f"transport-{group.pk}", group.name, None, None)
        for number, device in there.items():
            if is_shown.get(device):
                here = LinkEnd(node(device), names[device], device, state.port(End(device, number)))
                found.append(state.link(here, beyond))
    for point, at in plugged:
        here = LinkEnd(f"device-{at.device}", names[at.device], at.device, state.port(End(at.device, at.interface)))
        beyond = LinkEnd(f"points-{at.device}", point.name, None, None)
        found.append(replace(state.link(here, beyond), evidence=at.evidence, since=at.since))
    return found


class _Ports:
    """What the ports at the ends of links carry at a time; one query."""

    def __init__(self, past: datetime | None, wanted: Collection[int]) -> None:
        numbers = sorted(wanted)
        rows, _ = ports.find(past, only=numbers, limit=len(numbers)) if numbers else ([], 0)
        self._rows = {row.id: row for row in rows}
        self._speeds = _speeds(past, numbers)

    def port(self, end: End) -> PortRow | None:
        """The port of an end, if it names one."""
        return self._rows.get(end.port) if end.port is not None else None

    def link(
        self,
        a: LinkEnd,
        b: LinkEnd,
        link: Link | None = None,
        since: datetime | None = None,
        lost_at: datetime | None = None,
    ) -> MapLink:
        """A link with what it carries: as its end a counts it, or where that one tells nothing, its end b.

        Without one that was seen or entered it leads to a transport.
        """
        there, back = _lane(a.port, b.port), _lane(b.port, a.port)
        speeds = [self._speeds[end.port.id] for end in (a, b) if end.port and end.port.id in self._speeds]
        errors = [end.port.error_rate for end in (a, b) if end.port and end.port.error_rate is not None]
        return MapLink(
            a=a,
            b=b,
            evidence=link.evidence if link else TRANSPORT,
            contradiction=link.contradiction if link else "",
            since=since,
            lost_at=lost_at,
            entered=link.entered if link else None,
            speed_bps=min(speeds, default=None),
            there=there,
            back=back,
            error_rate=max(errors, default=None),
            state=_state(a.port, b.port),
        )


def _lane(sends: PortRow | None, receives: PortRow | None) -> Lane:
    """What goes from one port to the other: what the first one sent, or else what the second one received."""
    if sends is not None and sends.out_bps is not None:
        return Lane(sends.out_bps, sends.out_percent)
    if receives is not None:
        return Lane(receives.in_bps, receives.in_percent)
    return Lane(None, None)


def _state(*ends: PortRow | None) -> str:
    known = [port for port in ends if port is not None and port.oper is not None]
    if not known:
        return "unknown"
    answering = [port for port in known if port.answers]
    if not answering:
        return "silent"
    return "up" if all(port.oper == 1 for port in answering) else "down"


def _speeds(past: datetime | None, numbers: Collection[int]) -> dict[int, float]:
    """The speed of each of some ports at a time, the higher one of in and out; bits per second."""
    sql = """SELECT each.id, last.bps FROM unnest(%s::bigint[]) each(id) JOIN LATERAL (
            SELECT greatest(in_bps, out_bps)::float8 AS bps FROM inventory_interfacespeed
            WHERE interface_id = each.id AND since <= %s ORDER BY since DESC LIMIT 1
        ) last ON last.bps > 0"""
    with connection.cursor() as cursor:
        cursor.execute(sql, [sorted(numbers), past or timezone.now()])
        return dict(cursor.fetchall())
