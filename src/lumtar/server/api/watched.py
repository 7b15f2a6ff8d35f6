"""Watched traffic, lists of known addresses, and strangers to them."""

from collections.abc import Mapping
from datetime import datetime
from typing import Literal

import numpy as np
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Query, Status
from pydantic import Field

from lumtar.core.measures import MEASURES
from lumtar.core.measures.traffic import TRAFFIC
from lumtar.core.refusal import Refusal
from lumtar.domain.flows import strangers, watched
from lumtar.domain.flows.models import AddressList, Stranger, WatchedTraffic
from lumtar.domain.reports import traffic, watched_traffic
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.problems import refusing
from lumtar.server.api.rule_levels import RuleLevel, levels_of
from lumtar.server.api.schema import Schema
from lumtar.server.api.traffic import FilterOut, filters_in_words

router = Router(tags=["traffic"])
MOST_STRANGERS = 500


Shown = Literal["rate_bps", "network_ms", "server_ms"]
SHOWN: dict[str, Shown] = {
    "traffic_rate": "rate_bps",
    "traffic_network_ms": "network_ms",
    "traffic_server_ms": "server_ms",
}
"""Measures that are shown with the levels of rules about them, by what they are called here."""


class WatchedOut(Schema):
    """Watched traffic: its filters, its rate and response times in the last complete minute, and the levels of rules about these."""

    id: int
    name: str
    filters: dict[str, str]
    words: list[FilterOut]
    title: str
    since: datetime
    rate_bps: float | None
    network_ms: float | None
    server_ms: float | None
    limits: list[RuleLevel]


class WatchedIn(Schema):
    """A name, and filters as the address of the screen has them."""

    name: str = Field(max_length=120)
    filters: dict[str, str] = {}


@router.get("/traffic/watched", needs=VIEWER, response=list[WatchedOut])
def list_watched(request: HttpRequest) -> list[WatchedOut]:
    """All watched traffic."""
    rows = list(WatchedTraffic.objects.order_by("name"))
    limits = levels_of(TRAFFIC, SHOWN)
    numbers, frame = watched_traffic.watched_now(timezone.now(), ())
    place = {int(number): n for n, number in enumerate(numbers)}
    figures = {
        row.pk: {
            name: None if np.isnan(value) else float(value)
            for measure, name in SHOWN.items()
            for value in [MEASURES[measure].of(frame)[place[row.pk]]]
        }
        for row in rows
        if row.pk in place
    }
    return [_watched(row, limits.get(row.pk, []), figures.get(row.pk, {})) for row in rows]


def _watched(row: WatchedTraffic, limits: list[RuleLevel], figures: Mapping[Shown, float | None]) -> WatchedOut:
    try:
        title, words = filters_in_words(row.filters)
    except Refusal as error:
        title, words = str(error), []
    return WatchedOut(
        id=row.pk, name=row.name, filters=row.filters, words=words, title=title, since=row.since,
        limits=limits,
        **{name: figures.get(name) for name in SHOWN.values()},
    )  # fmt: skip


@router.post("/traffic/watched", needs=ENGINEER.everywhere, response={201: WatchedOut})
def watch_traffic(request: HttpRequest, body: WatchedIn) -> Status[WatchedOut]:
    """Watch traffic from now on: rules can be about it."""
    with refusing():
        row = watched.watch(body.name, body.filters, request.user.get_username())
    return Status(201, _watched(row, levels_of(TRAFFIC, SHOWN).get(row.pk, []), {}))


@router.delete("/traffic/watched/{int:traffic_id}", needs=ENGINEER.everywhere, response={204: None})
def end_watching(request: HttpRequest, traffic_id: int) -> Status[None]:
    """Watch it no longer; what is stored of it stays."""
    get_object_or_404(WatchedTraffic, pk=traffic_id)
    watched.end(traffic_id, request.user.get_username())
    return Status(204, None)


class AddressListIn(Schema):
    """Known addresses within a range (whoever else is seen there is a stranger), or with ``is_deny`` addresses that must not be seen."""

    name: str = Field(max_length=120)
    is_deny: bool = False
    within: str = ""
    listed: str = ""
    enabled: bool = True


class AddressListOut(AddressListIn):
    """A list, and how many strangers to it nobody has accepted."""

    id: int
    strangers: int


@router.get("/traffic/addresses", needs=VIEWER, response=list[AddressListOut])
def list_addresses(request: HttpRequest) -> list[AddressListOut]:
    """The lists of known addresses."""
    return [_list(row) for row in AddressList.objects.order_by("name")]


def _list(row: AddressList) -> AddressListOut:
    open_ones = Stranger.objects.filter(known=row, accepted_at=None).count()
    same = ("name", "is_deny", "within", "listed", "enabled")
    return AddressListOut(id=row.pk, strangers=open_ones, **{name: getattr(row, name) for name in same})


@router.post("/traffic/addresses", needs=ENGINEER.everywhere, response={201: AddressListOut})
def make_list(request: HttpRequest, body: AddressListIn) -> Status[AddressListOut]:
    """A new list."""
    with refusing():
        row = strangers.keep_list(AddressList(**body.model_dump()), request.user.get_username())
    return Status(201, _list(row))


@router.put("/traffic/addresses/{int:list_id}", needs=ENGINEER.everywhere, response=AddressListOut)
def change_list(request: HttpRequest, list_id: int, body: AddressListIn) -> AddressListOut:
    """Change a list; strangers that it knows by now are accepted."""
    row = get_object_or_404(AddressList, pk=list_id)
    for name, value in body.model_dump().items():
        setattr(row, name, value)
    with refusing():
        return _list(strangers.keep_list(row, request.user.get_username()))


@router.delete("/traffic/addresses/{int:list_id}", needs=ENGINEER.everywhere, response={204: None})
def delete_list(request: HttpRequest, list_id: int) -> Status[None]:
    """Delete a list and its strangers."""
    get_object_or_404(AddressList, pk=list_id)
    strangers.delete_list(list_id, request.user.get_username())
    return Status(204, None)


class UnknownAddressOut(Schema):
    """An address that is not known to a list: when and where it was seen, with whom, and how much at that port."""

    id: int
    address: str
    name: str
    list_id: int
    list: str
    first_at: datetime
    last_at: datetime
    interface_id: int | None
    where: str
    peer: str
    service: str
    octets: int
    accepted_at: datetime | None
    accepted_by: str


class UnknownAddressesOut(Schema):
    """The strangers seen last, and how many there are."""

    rows: list[UnknownAddressOut]
    number: int


class StrangersAsked(Schema):
    """Of which list, and whether accepted ones are meant."""

    list: int | None = None
    accepted: bool = False


@router.get("/traffic/strangers", needs=VIEWER, response=UnknownAddressesOut)
def list_strangers(request: HttpRequest, query: Query[StrangersAsked]) -> UnknownAddressesOut:
    """Strangers, those seen last first."""
    rows, number = strangers.listed(query.list, is_accepted=query.accepted, limit=MOST_STRANGERS)
    names = traffic.known_addresses({row.address for row in rows})
    return UnknownAddressesOut(
        rows=[
            UnknownAddressOut(
                id=row.pk,
                address=row.address,
                name=names.get(row.address, ""),
                list_id=row.known_id,
                list=row.known.name,
                first_at=row.first_at,
                last_at=row.last_at,
                interface_id=row.interface_id,
                where=f"{row.interface.device} {row.interface.label}" if row.interface else "",
                peer=row.peer,
                service=traffic.service_name(row.protocol, row.port),
                octets=row.octets,
                accepted_at=row.accepted_at,
                accepted_by=row.accepted_by,
            )
            for row in rows
        ],
        number=number,
    )


class AcceptIn(Schema):
    """Who is accepted: some addresses, everybody in a prefix, or all that were seen so far."""

    addresses: list[str] = Field([], max_length=5000)
    prefix: str = Field("", max_length=100)
    everybody: bool = False


class AcceptedOut(Schema):
    """How many were accepted."""

    accepted: int


@router.post("/traffic/addresses/{int:list_id}/accepted", needs=ENGINEER.everywhere, response=AcceptedOut)
def accept_strangers(request: HttpRequest, list_id: int, body: AcceptIn) -> AcceptedOut:
    """Accept strangers; the list knows them from now on."""
    get_object_or_404(AddressList, pk=list_id)
    with refusing():
        number = strangers.accept(
            list_id, body.addresses, body.prefix, request.user.get_username(), everybody=body.everybody
        )
    return AcceptedOut(accepted=number)
