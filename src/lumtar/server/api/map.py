"""The map: what hangs on what at a time, and where it stands."""

from dataclasses import asdict
from datetime import datetime
from typing import Literal

from django.http import HttpRequest, HttpResponse
from ninja import Field, Query, Status

from lumtar.domain.inventory.models import Device
from lumtar.domain.reports import ends, figures, map_parts, network, ways
from lumtar.domain.topology import backgrounds, positions
from lumtar.domain.topology.models import MapBackground
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past

router = Router(tags=["map"])
MAP_NAME = r"^(sites|devices|site-\d{1,12})$"
NODE_KEY = r"^(site|device|transport|points)-\d{1,12}$"


class MapNode(Schema):
    """A card: a site, a device, the access points at a device, or a transport, which is a network that is not ours.

    ``cells`` are the loads of its ports in per cent, of a site the highest of each device; -1 is unused, -2 down though
    switched on and labelled, -3 without an answer. What is outside only shows where links of the shown site lead.
    ``members`` are names and MAC addresses of access points, ``networks`` how many clients each wireless network has there.
    """

    model_config = ALWAYS

    key: str
    kind: Literal["site", "device", "access points", "transport"]
    name: str
    devices: int
    silent: int
    severity: int
    site: str
    address: str
    model: str
    serial: str
    mac: str
    cells: list[float]
    is_outside: bool
    members: list[str]
    networks: dict[str, int]
    x: float
    y: float


class MapEnd(Schema):
    """One end of a link: the card, and the port behind it. Transports and access points have neither device nor port."""

    model_config = ALWAYS

    node: str
    device_id: int | None
    device: str
    interface_id: int | None
    label: str
    name: str
    severity: int


class MapLane(Schema):
    """What goes one way: bits per second, and per cent of the speed."""

    model_config = ALWAYS

    bps: float | None
    percent: float | None


class MapLinkOut(Schema):
    """A link between two cards; ``there`` goes from a to b; an access point is b. A link by hand has a number, by which it is removed.

    One that nobody sees any more is shown for a day with the time when it was seen last.
    """

    model_config = ALWAYS

    a: MapEnd
    b: MapEnd
    evidence: Literal["both ends", "one end", "forwarding tables", "by hand", "transport"]
    contradiction: str
    since: datetime | None
    lost_at: datetime | None
    entered: int | None
    speed_bps: float | None
    there: MapLane
    back: MapLane
    error_rate: float | None
    state: Literal["up", "down", "silent", "unknown"]


class BackgroundOut(Schema):
    """Where a picture lies beneath the map, in its pixels; another ``version`` is another picture."""

    x: float
    y: float
    width: float
    height: float
    version: str


class MapOut(Schema):
    """A map. Its name is what an arrangement is kept by."""

    map: str
    nodes: list[MapNode]
    links: list[MapLinkOut]
    background: BackgroundOut | None


@router.get("/map", needs=VIEWER, response=MapOut)
def show(
    request: HttpRequest, at: datetime | None = None, site: str | None = None, devices: bool = False, part: str = ""
) -> MapOut:
    """The map of all sites, of one site's devices and where their links lead, or of all devices; now or at a past time.

    Who arranged it differently for themselves sees that arrangement. ``part`` is one of /map/parts: that is shown alone.
    """
    person = request.person  # type: ignore[attr-defined]
    found = network.at_time(
        past(at),
        site,
        of_devices=devices,
        person=request.user.pk,
        keep=not person.is_limited,
        wireless=map_parts.wireless_network(part),
    )
    if site and not any(not node.is_outside for node in found.nodes):
        raise Problem(404, f"There is no site called {site}, or no device is there.")
    if part:
        with refusing():
            found = map_parts.only(found, part, past(at))
    return MapOut.model_construct(
        map=found.map,
        nodes=[MapNode.model_construct(**asdict(node)) for node in found.nodes],
        links=[_link(link) for link in found.links],
        background=_background(found.map),
    )


def _background(name: str) -> BackgroundOut | None:
    found = backgrounds.of_map(name)
    return BackgroundOut(**asdict(found.area), version=found.changed_at.isoformat()) if found else None


def _end(end: network.LinkEnd) -> MapEnd:
    port = end.port
    return MapEnd.model_construct(
        node=end.node,
        device_id=end.device_id,
        device=end.device,
        interface_id=port.id if port else None,
        label=port.label if port else "",
        name=port.name if port else "",
        severity=port.severity if port else 0,
    )


def _lane(lane: network.Lane) -> MapLane:
    return MapLane.model_construct(bps=lane.bps, percent=lane.percent)


def _link(link: network.MapLink) -> MapLinkOut:
    same = ("evidence", "contradiction", "since", "lost_at", "entered", "speed_bps", "error_rate", "state")
    return MapLinkOut.model_construct(
        a=_end(link.a), b=_end(link.b), there=_lane(link.there), back=_lane(link.back),
        **{name: getattr(link, name) for name in same},
    )  # fmt: skip


class PlaceOnMap(Schema):
    """An end of a way: the device, and the port of it that is meant, or where a station is."""

    name: str
    device_id: int
    interface_id: int | None
    label: str
    address: str


class WaysOut(Schema):
    """What leads from one end to another: the shortest way, then others that share no link with those before.

    ``is_broken`` if there is none, and what is told leads over links that are down. ``yesterday`` are the devices along the shortest one
    a day before, if it was another one; ``unseen`` transports on the way, in which nothing is seen. ``notes`` tell where the ends are,
    and by what packets between them are routed.
    """

    start: PlaceOnMap
    goal: PlaceOnMap
    ways: list[list[MapLinkOut]]
    is_broken: bool
    yesterday: list[str]
    unseen: list[str]
    notes: list[str]


def _place(place: ends.Place) -> PlaceOnMap:
    return PlaceOnMap(
        name=place.name, device_id=place.device, interface_id=place.port, label=place.port_label, address=place.address
    )


@router.get("/map/way", needs=VIEWER, response=WaysOut)
def way_between(request: HttpRequest, start: str, goal: str, at: datetime | None = None) -> WaysOut:
    """The way between two ends, now or at a past time.

    Each is a device (by its name, address or MAC address), a port (device and port), or a station by its MAC address or address.
    """
    with refusing():
        found = ways.between(start, goal, past(at))
    return WaysOut.model_construct(
        ways=[[_link(link) for link in way] for way in found.ways],
        start=_place(found.start),
        goal=_place(found.goal),
        **{name: getattr(found, name) for name in ("is_broken", "yesterday", "unseen", "notes")},
    )


class FigureOut(Schema):
    """A figure of a device now, and over the last two hours in steps of five minutes, oldest first."""

    name: str
    unit: str
    value: float | None
    line: list[float | None]


class FiguresOut(Schema):
    """The figures of a device."""

    device_id: int
    figures: list[FigureOut]


class FiguresAsked(Schema):
    """Of which devices, and at which time."""

    devices: list[int] = Field(default_factory=list, max_length=figures.MOST_DEVICES)
    at: datetime | None = None


@router.get("/map/figures", needs=VIEWER, response=list[FiguresOut])
def figures_of(request: HttpRequest, query: Query[FiguresAsked]) -> list[FiguresOut]:
    """Processor, memory, PoE and temperature of some devices, as the map shows them beside cards."""
    # Whoever may see a part of the network sees figures of that part.
    seen = list(Device.objects.filter(pk__in=query.devices).values_list("pk", flat=True))
    found = figures.of_devices(seen, past(query.at))
    return [
        FiguresOut(device_id=device, figures=[FigureOut(**asdict(each)) for each in listed])
        for device, listed in found.items()
    ]


class PartOut(Schema):
    """A part of the network that a map can show alone."""

    name: str
    words: str


@router.get("/map/parts", needs=VIEWER, response=list[PartOut])
def list_parts(request: HttpRequest) -> list[PartOut]:
    """The parts of the network that a map can show alone, as they are now: VLANs, and the storage network."""
    return [PartOut(name=each.name, words=each.words) for each in map_parts.parts()]


class BackgroundIn(Schema):
    """A picture beneath a map (PNG or JPEG, in base 64), and where it lies; without a picture the one that is there is moved."""

    map: str = Field(pattern=MAP_NAME)
    picture: str | None = Field(None, max_length=12_000_000)
    x: float
    y: float
    width: float
    height: float


@router.put("/map/background", needs=ENGINEER.everywhere, response={204: None})
def lay_background(request: HttpRequest, body: BackgroundIn) -> Status[None]:
    """Lay a picture beneath a map for everybody, or move it."""
    with refusing():
        area = backgrounds.Area(body.x, body.y, body.width, body.height)
        backgrounds.keep(body.map, area, body.picture, request.user.get_username())
    return Status(204, None)


@router.delete("/map/background", needs=ENGINEER.everywhere, response={204: None})
def remove_background(request: HttpRequest, map: str) -> Status[None]:
    """Take a map's background away."""
    backgrounds.remove(map, request.user.get_username())
    return Status(204, None)


@router.get("/map/background", needs=VIEWER)
def background(request: HttpRequest, map: str = "sites") -> HttpResponse:
    """The picture beneath a map."""
    row = MapBackground.objects.filter(map=map).first()
    if row is None:
        raise Problem(404, f"There is no background beneath the map {map}.")
    return HttpResponse(bytes(row.picture), content_type=row.kind)


class Spot(Schema):
    """Where a card stands: pixels at full size, x to the right and y downwards."""

    node: str = Field(pattern=NODE_KEY)
    x: float
    y: float


class Arrangement(Schema):
    """Cards that were moved on a map, for oneself or for everybody."""

    map: str = Field(pattern=MAP_NAME)
    spots: list[Spot] = Field(min_length=1, max_length=5000)


class Moved(Schema):
    """How many places were kept, or forgotten."""

    nodes: int


@router.put("/map/own", needs=VIEWER, response=Moved)
def arrange_own(request: HttpRequest, body: Arrangement) -> Moved:
    """Move cards for oneself."""
    with refusing():
        positions.move(body.map, {spot.node: (spot.x, spot.y) for spot in body.spots}, request.user.pk)
    return Moved(nodes=len(body.spots))


@router.put("/map/shared", needs=ENGINEER.everywhere, response=Moved)
def arrange_shared(request: HttpRequest, body: Arrangement) -> Moved:
    """Move cards for everybody who has not arranged the map for themselves."""
    with refusing():
        positions.move(body.map, {spot.node: (spot.x, spot.y) for spot in body.spots}, None)
    return Moved(nodes=len(body.spots))


@router.delete("/map/own", needs=VIEWER, response=Moved)
def forget_own(request: HttpRequest, map: str) -> Moved:
    """See a map as everybody does again."""
    return Moved(nodes=positions.reset(map, request.user.pk))


@router.delete("/map/shared", needs=ENGINEER.everywhere, response=Moved)
def forget_shared(request: HttpRequest, map: str) -> Moved:
    """Have a map laid out anew for everybody."""
    return Moved(nodes=positions.reset(map, None))
