"""What traffic is called: applications of one's own, and tables of autonomous systems and places."""

from datetime import datetime, timedelta
from typing import Literal

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Status
from pydantic import Field

from lumtar.core.flows.applications import STANDARD
from lumtar.domain.flows import applications, prefix_tables
from lumtar.domain.flows.models import OwnApplication, PrefixTable
from lumtar.server import limiting
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["traffic"])
TRIED = timedelta(hours=1)
LARGEST_FILE = 64 << 20
Kind = Literal["systems", "places"]


class ApplicationIn(Schema):
    """An application: by ports of the service (443, 8000-8010), addresses at one end, IP protocols (6 is TCP),
    what exporters call it, or names that clients ask for in TLS and HTTP, where exporters tell them (films.example means everything beneath it as well).
    """

    name: str = Field(max_length=80)
    protocols: list[int] = Field([], max_length=50)
    ports: str = Field("", max_length=500)
    addresses: str = Field("", max_length=100_000)
    told: list[int] = Field([], max_length=50)
    server_names: str = Field("", max_length=10_000)


class ApplicationOut(ApplicationIn):
    """A definition; ``number`` is that by which traffic is filtered."""

    id: int
    number: int


class BuiltIn(Schema):
    """An application that is built in."""

    number: int
    name: str


class ApplicationsOut(Schema):
    """Own definitions, which go before those that are built in."""

    own: list[ApplicationOut]
    built_in: list[BuiltIn]


@router.get("/applications", needs=VIEWER, response=ApplicationsOut)
def list_applications(request: HttpRequest) -> ApplicationsOut:
    """All applications."""
    return ApplicationsOut(
        own=[_application(row) for row in OwnApplication.objects.order_by("name")],
        built_in=[BuiltIn(number=each.number, name=each.name) for each in STANDARD],
    )


def _application(row: OwnApplication) -> ApplicationOut:
    same = ("name", "protocols", "ports", "addresses", "told", "server_names")
    return ApplicationOut(id=row.pk, number=row.number, **{name: getattr(row, name) for name in same})


@router.post("/applications", needs=ENGINEER.everywhere, response={201: ApplicationOut})
def make_application(request: HttpRequest, body: ApplicationIn) -> Status[ApplicationOut]:
    """A new definition, for flows from now on."""
    with refusing():
        row = applications.keep(OwnApplication(**body.model_dump()), request.user.get_username())
    return Status(201, _application(row))


@router.put("/applications/{int:application}", needs=ENGINEER.everywhere, response=ApplicationOut)
def change_application(request: HttpRequest, application: int, body: ApplicationIn) -> ApplicationOut:
    """Change a definition, for flows from now on."""
    row = get_object_or_404(OwnApplication, pk=application)
    for name, value in body.model_dump().items():
        setattr(row, name, value)
    with refusing():
        return _application(applications.keep(row, request.user.get_username()))


@router.delete("/applications/{int:application}", needs=ENGINEER.everywhere, response={204: None})
def delete_application(request: HttpRequest, application: int) -> Status[None]:
    """Delete a definition."""
    get_object_or_404(OwnApplication, pk=application)
    applications.delete(application, request.user.get_username())
    return Status(204, None)


class CalledNow(Schema):
    """What conversations are called now, and their octets."""

    name: str
    octets: int


class TriedOut(Schema):
    """What a definition would have been in the last hour, of the largest conversations that were kept one by one."""

    octets: int
    conversations: int
    of_octets: int
    of_conversations: int
    now: list[CalledNow]


@router.post("/applications/try", needs=ENGINEER, response=TriedOut)
def try_application(request: HttpRequest, body: ApplicationIn) -> TriedOut:
    """Try a definition on the conversations of the last hour, without keeping it."""
    now = timezone.now()
    with refusing():
        tried = applications.try_out(OwnApplication(**body.model_dump()), now - TRIED, now)
    names = applications.names()
    return TriedOut(
        octets=tried.octets,
        conversations=tried.conversations,
        of_octets=tried.of_octets,
        of_conversations=tried.of_conversations,
        now=[CalledNow(name=names.get(number, str(number)), octets=octets) for number, octets in tried.now],
    )


class PrefixTableOut(Schema):
    """A table that was loaded."""

    kind: str
    rows: int
    loaded_at: datetime
    by: str


class PrefixTableIn(Schema):
    """The text of a CSV file: ``prefix,number,name`` of systems, ``prefix,place,country,latitude,longitude`` of places."""

    text: str


@router.get("/prefixtables", needs=VIEWER, response=list[PrefixTableOut])
def list_tables(request: HttpRequest) -> list[PrefixTableOut]:
    """The tables that there are."""
    return [_table(row) for row in PrefixTable.objects.defer("text").order_by("kind")]


def _table(row: PrefixTable) -> PrefixTableOut:
    return PrefixTableOut(kind=row.kind, rows=row.rows, loaded_at=row.loaded_at, by=row.by)


@router.put("/prefixtables/{str:kind}", needs=ENGINEER.everywhere, response=PrefixTableOut)
def load_table(request: HttpRequest, kind: Kind, body: PrefixTableIn) -> PrefixTableOut:
    """Load a table, in place of the one before."""
    with refusing():
        return _table(prefix_tables.load(kind, body.text, request.user.get_username()))


@router.post("/prefixtables/{str:kind}/file", needs=ENGINEER.everywhere, response=PrefixTableOut)
def load_table_file(request: HttpRequest, kind: Kind) -> PrefixTableOut:
    """Load a table from a file as the body, CSV or MMDB, in place of the one before."""
    # Read past the limit for ordinary requests.
    data = request.read(LARGEST_FILE + 1)
    if len(data) > LARGEST_FILE:
        raise Problem(413, f"A file has at most {LARGEST_FILE >> 20} MiB.")
    with limiting.UPLOADS.taken(), refusing():
        return _table(prefix_tables.load_file(kind, data, request.user.get_username()))


@router.delete("/prefixtables/{str:kind}", needs=ENGINEER.everywhere, response={204: None})
def delete_table(request: HttpRequest, kind: Kind) -> Status[None]:
    """Do without a table."""
    get_object_or_404(PrefixTable, kind=kind)
    prefix_tables.delete(kind, request.user.get_username())
    return Status(204, None)
