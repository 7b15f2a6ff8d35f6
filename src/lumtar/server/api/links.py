"""Links between devices, and the neighbours that devices tell of."""

from collections.abc import Iterable, Sequence
from datetime import datetime

from django.db.models import F, Q
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Field, Status

from lumtar.core.topology import End
from lumtar.domain.inventory import groups
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.inventory.scope import NO_SITE
from lumtar.domain.readings.models import Newest
from lumtar.domain.topology import by_hand, exchange, queries
from lumtar.domain.topology.models import Neighbour, NeighbourLook
from lumtar.domain.topology.queries import SeenLink
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past

router = Router(tags=["links"])


class EndOut(Schema):
    """One end of a link. What it carries is known of now alone, from this end: bits per second that come in and go out."""

    device_id: int
    device: str
    site: str
    interface_id: int | None
    label: str
    """Empty where the device does not say which port it is."""
    in_bps: float | None
    out_bps: float | None
    in_percent: float | None
    out_percent: float | None
    is_up: bool | None


class LinkOut(Schema):
    """A link: both ends, how it is known (both ends, one end, by hand, itself), since when, and what speaks against it.

    A link by hand has a number, by which it is removed.
    """

    a: EndOut
    b: EndOut
    evidence: str
    contradiction: str
    since: datetime
    entered: int | None


class LinksOut(Schema):
    """The links at a time, and how many neighbours are not in the inventory."""

    rows: list[LinkOut]
    strangers: int


@router.get("/links", needs=VIEWER, response=LinksOut)
def links(
    request: HttpRequest,
    at: datetime | None = None,
    device: int | None = None,
    site: str | None = None,
    group: int | None = None,
) -> LinksOut:
    """The links between devices of the inventory, now or at a past time: all, or those with an end at a device, site or group."""
    until = past(at)
    found = queries.links_at(until or timezone.now(), device)
    if group is not None:
        members = groups.polled_ports(group)
        found = [each for each in found if each.link.a.port in members or each.link.b.port in members]
    ends = _Ends(found, is_now=until is None)
    strangers = queries.strangers_at(until or timezone.now(), None if device is None else [device])
    rows = [
        LinkOut(
            a=ends.out(each.link.a),
            b=ends.out(each.link.b),
            evidence=each.link.evidence,
            contradiction=each.link.contradiction,
            since=each.since,
            entered=each.link.entered,
        )
        for each in found
        if ends.are_seen(each) and (not site or site in ends.sites(each))
    ]
    return LinksOut(rows=rows, strangers=strangers.count())


class _Ends:
    """What the ends of links are called, and what they carry; one query each."""

    def __init__(self, found: Sequence[SeenLink], *, is_now: bool = False) -> None:
        every = [end for each in found for end in (each.link.a, each.link.b)]
        devices = Device.objects.filter(pk__in={end.device for end in every})
        self.devices = {
            row["pk"]: row
            for row in devices.annotate(at_site=F("site__name")).values("pk", "name", "at_site", "address")
        }
        numbers = {end.port for end in every if end.port is not None}
        self.labels = dict(Interface.objects.filter(pk__in=numbers).values_list("pk", "label"))
        self.newest = {each.pk: each for each in Newest.objects.filter(pk__in=numbers)} if is_now else {}

    def are_seen(self, each: SeenLink) -> bool:
        """Whether both devices may be seen by whoever asks."""
        return each.link.a.device in self.devices and each.link.b.device in self.devices

    def sites(self, each: SeenLink) -> set[str]:
        """Where the two devices are."""
        return {self.devices[end.device]["at_site"] or NO_SITE for end in (each.link.a, each.link.b)}

    def out(self, end: End) -> EndOut:
        """One end."""
        device, newest = self.devices[end.device], self.newest.get(end.port or 0)
        return EndOut(
            device_id=end.device,
            device=device["name"],
            site=device["at_site"] or "",
            interface_id=end.port,
            label=self.labels.get(end.port or 0, ""),
            in_bps=newest.in_bps if newest else None,
            out_bps=newest.out_bps if newest else None,
            in_percent=newest.in_percent if newest else None,
            out_percent=newest.out_percent if newest else None,
            is_up=newest.oper == 1 if newest else None,
        )


def _file(form: str, at: datetime | None) -> HttpResponse:
    """All links at a time as a file of a form of exchange.FORMS."""
    found = queries.links_at(past(at) or timezone.now())
    ends = _Ends(found)
    devices = {
        pk: {"name": row["name"], "site": row["at_site"] or "", "address": row["address"]}
        for pk, row in ends.devices.items()
    }
    write, content_type = exchange.FORMS[form]
    answer = HttpResponse(
        write([each for each in found if ends.are_seen(each)], devices, ends.labels), content_type=content_type
    )
    answer["Content-Disposition"] = f'attachment; filename="links.{form}"'
    return answer


@router.get("/links.graphml", needs=VIEWER)
def links_as_graphml(request: HttpRequest, at: datetime | None = None) -> HttpResponse:
    """The links as GraphML: devices are nodes, links are edges."""
    return _file("graphml", at)


@router.get("/links.json", needs=VIEWER)
def links_as_json(request: HttpRequest, at: datetime | None = None) -> HttpResponse:
    """The links as JSON: devices, and links with both ends."""
    return _file("json", at)


@router.get("/links.csv", needs=VIEWER)
def links_as_csv(request: HttpRequest, at: datetime | None = None) -> HttpResponse:
    """The links as CSV, with the columns that links by hand are entered with."""
    return _file("csv", at)


class EndIn(Schema):
    """One end of a link by hand; the port may be unknown."""

    device: int
    interface: int | None = None


class LinkIn(Schema):
    """A link by hand."""

    a: EndIn
    b: EndIn
    note: str = ""


class Entered(Schema):
    """The number of a link by hand."""

    id: int


@router.post("/links", needs=ENGINEER.everywhere, response={201: Entered})
def enter_link(request: HttpRequest, body: LinkIn) -> Status[Entered]:
    """Enter a link where devices tell nothing of each other."""
    with refusing():
        a, b = (End(end.device, end.interface) for end in (body.a, body.b))
        made = by_hand.add(a, b, body.note, request.user.get_username())
    return Status(201, Entered(id=made.pk))


@router.delete("/links/{int:link}", needs=ENGINEER.everywhere, response={204: None})
def remove_link(request: HttpRequest, link: int) -> Status[None]:
    """Remove a link by hand; it stays where the past is shown."""
    by_hand.remove(link, request.user.get_username())
    return Status(204, None)


class LinkText(Schema):
    """Links as CSV; without ``keep`` they are only read."""

    text: str = Field(max_length=5_000_000)
    keep: bool = False


class LinkLine(Schema):
    """A line that cannot be entered, and why."""

    number: int
    words: str
    problem: str


class LinksRead(Schema):
    """How many links would be added, or were, and the lines that cannot be."""

    added: int
    problems: list[LinkLine]


@router.post("/links/list", needs=ENGINEER.everywhere, response=LinksRead)
def enter_links(request: HttpRequest, body: LinkText) -> LinksRead:
    """Read links from CSV with the columns from_device, from_port, to_device, to_port and note, and keep them if all can be."""
    with refusing():
        read = by_hand.read_csv(body.text, request.user.get_username(), keep=body.keep)
    problems = [LinkLine(number=each.number, words=each.words, problem=each.problem) for each in read.problems[:500]]
    return LinksRead(added=read.added, problems=problems)


class NeighbourOut(Schema):
    """A neighbour as a device told of it, and who that is: device and port of the inventory as far as they were found, and why."""

    interface_id: int | None
    local_port: str
    chassis_kind: str
    chassis: str
    port_kind: str
    port: str
    port_descr: str
    sys_name: str
    sys_descr: str
    addresses: list[str]
    since: datetime
    to_device_id: int | None
    to_device: str
    to_interface_id: int | None
    to_label: str
    reason: str


class NeighboursOut(Schema):
    """The neighbours of a device; when it was asked for them, what that cost, and why it failed, if it did."""

    rows: list[NeighbourOut]
    asked_at: datetime | None
    took_ms: float | None
    requests: int | None
    problem: str


@router.get("/devices/{int:device}/neighbours", needs=VIEWER, response=NeighboursOut)
def neighbours(request: HttpRequest, device: int, at: datetime | None = None) -> NeighboursOut:
    """The neighbours that a device tells of, now or at a past time."""
    get_object_or_404(Device, pk=device)
    rows = queries.seen_at(past(at) or timezone.now()).filter(device=device)
    look = NeighbourLook.objects.filter(device=device).first()
    return NeighboursOut(
        rows=_told(rows.order_by("local_port", "pk")),
        asked_at=look.at if look else None,
        took_ms=look.took_ms if look else None,
        requests=look.requests if look else None,
        problem=look.problem if look else "",
    )


@router.get("/interfaces/{int:interface}/neighbours", needs=VIEWER, response=list[NeighbourOut])
def neighbours_of_port(request: HttpRequest, interface: int, at: datetime | None = None) -> list[NeighbourOut]:
    """The neighbours that a device tells of at one of its ports."""
    get_object_or_404(Interface, pk=interface)
    return _told(queries.seen_at(past(at) or timezone.now()).filter(interface=interface))


class StrangerOut(NeighbourOut):
    """A neighbour that is not in the inventory, and the device that sees it."""

    device_id: int
    device: str


@router.get("/neighbours/strangers", needs=VIEWER, response=list[StrangerOut])
def strangers(request: HttpRequest, at: datetime | None = None) -> list[StrangerOut]:
    """Neighbours that are not in the inventory, or not clearly one device of it."""
    rows = list(queries.strangers_at(past(at) or timezone.now())[:2000])
    return [
        StrangerOut(device_id=row.device_id, device=row.device.name, **told.model_dump())
        for row, told in zip(rows, _told(rows), strict=True)
    ]


def _told(rows: Iterable[Neighbour]) -> list[NeighbourOut]:
    listed = list(rows)
    devices = dict(Device.objects.filter(pk__in={row.to_device_id for row in listed}).values_list("pk", "name"))
    labels = dict(
        Interface.objects.filter(Q(pk__in={row.to_interface_id for row in listed})).values_list("pk", "label")
    )
    same = (
        "interface_id", "local_port", "chassis_kind", "chassis", "port_kind", "port", "port_descr", "sys_name", "sys_descr",
        "addresses", "since", "to_interface_id", "reason",
    )  # fmt: skip
    return [
        NeighbourOut(
            **{name: getattr(row, name) for name in same},
            to_device_id=row.to_device_id if row.to_device_id in devices else None,
            to_device=devices.get(row.to_device_id or 0, ""),
            to_label=labels.get(row.to_interface_id or 0, ""),
        )
        for row in listed
    ]
