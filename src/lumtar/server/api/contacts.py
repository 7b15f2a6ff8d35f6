"""Who can be called: contacts, teams, and where messages may be sent."""

from datetime import datetime

from django.db.models import Prefetch
from django.http import HttpRequest
from django.utils import timezone
from ninja import Field, Status

from lumtar.core.access import Role
from lumtar.core.calling import Substitute
from lumtar.domain.calling import contacts, teams
from lumtar.domain.calling.channels import CHANNELS
from lumtar.domain.calling.channels.reach import destinations
from lumtar.domain.calling.models import Address, Contact, Destinations, Team
from lumtar.server.api.access import ADMINISTRATOR, ENGINEER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["calling"])
EDITED = ("edition", "changed_at", "changed_by")


class AddressFieldOut(Schema):
    """One field of an address; a secret one is never given back."""

    name: str
    words: str
    hint: str
    is_secret: bool
    is_required: bool


class ChannelOut(Schema):
    """A way to send messages."""

    name: str
    words: str
    fields: list[AddressFieldOut]
    for_administrators: bool


class AddressIn(Schema):
    """An address; ``target`` has the fields of its channel. Of one with an id, secrets that are left out stay."""

    id: int | None = None
    channel: str
    target: dict[str, str] = {}
    enabled: bool = True


class AddressOut(Schema):
    """An address without its secrets; ``shown`` says where it leads."""

    id: int
    channel: str
    shown: str
    target: dict[str, str]
    enabled: bool


class ContactIn(Schema):
    """Somebody to be called. In the hours of ``quiet`` only what is at least ``quiet_from`` severe is sent at once."""

    name: str
    zone: str = "UTC"
    quiet: str = ""
    quiet_from: int = Field(5, ge=1, le=5)
    addresses: list[AddressIn] = []


class ContactChange(ContactIn):
    """A change of a contact of this edition."""

    edition: int


class ContactOut(Schema):
    """A contact, and the teams and plans that name it."""

    model_config = ALWAYS

    id: int
    name: str
    zone: str
    quiet: str
    quiet_from: int
    addresses: list[AddressOut]
    teams: list[str]
    plans: list[str]
    edition: int
    changed_at: datetime
    changed_by: str


class ContactsOut(Schema):
    """All contacts by name, and the channels that there are."""

    rows: list[ContactOut]
    channels: list[ChannelOut]


def _contact(contact: Contact) -> ContactOut:
    return ContactOut(
        addresses=[
            AddressOut(id=a.pk, channel=a.channel, shown=a.shown, target=contacts.open_fields(a), enabled=a.enabled)
            for a in contact.addresses.all()
        ],
        teams=sorted(place.team.name for place in contact.places.all()),
        plans=sorted({step.plan.name for step in contact.steps.all()}),
        id=contact.pk,
        **{name: getattr(contact, name) for name in ("name", "zone", "quiet", "quiet_from", *EDITED)},
    )


@router.get("/contacts", needs=ENGINEER.everywhere, response=ContactsOut)
def list_contacts(request: HttpRequest) -> ContactsOut:
    """All contacts, without the secrets of their addresses."""
    with_secrets = Prefetch("addresses", Address.objects.defer(None))
    rows = Contact.objects.prefetch_related(with_secrets, "places__team", "steps__plan")
    channels = [
        ChannelOut(
            name=c.name, words=c.words, for_administrators=c.for_administrators,
            fields=[AddressFieldOut(**{name: getattr(f, name) for name in AddressFieldOut.model_fields}) for f in c.fields],
        )
        for c in CHANNELS.values()
    ]  # fmt: skip
    return ContactsOut(rows=[_contact(each) for each in rows], channels=channels)


def _contact_spec(body: ContactIn) -> contacts.ContactSpec:
    addresses = [contacts.AddressSpec(a.channel, a.target, a.enabled, a.id) for a in body.addresses]
    return contacts.ContactSpec(body.name, body.zone, body.quiet, body.quiet_from, addresses)


def _is_administrator(request: HttpRequest) -> bool:
    role: Role = request.person.role  # type: ignore[attr-defined]
    return role.may(Role.ADMINISTRATOR)


@router.post("/contacts", needs=ENGINEER.everywhere, response={201: ContactOut})
def make_contact(request: HttpRequest, body: ContactIn) -> Status[ContactOut]:
    """A new contact."""
    with refusing():
        made = contacts.save(
            _contact_spec(body), request.user.get_username(), is_administrator=_is_administrator(request)
        )
    return Status(201, _contact(made))


@router.put("/contacts/{int:contact}", needs=ENGINEER.everywhere, response=ContactOut)
def change_contact(request: HttpRequest, contact: int, body: ContactChange) -> ContactOut:
    """Change a contact and its addresses."""
    with refusing():
        return _contact(
            contacts.save(
                _contact_spec(body), request.user.get_username(), contact, body.edition,
                is_administrator=_is_administrator(request),
            )
        )  # fmt: skip


@router.delete("/contacts/{int:contact}", needs=ENGINEER.everywhere, response={204: None})
def delete_contact(request: HttpRequest, contact: int) -> Status[None]:
    """Delete a contact that no team and no plan names."""
    with refusing(409):
        contacts.delete(contact, request.user.get_username())
    return Status(204, None)


class SubstituteIO(Schema):
    """Somebody stands in for a member, from ``start`` until before ``end``."""

    contact: int
    instead_of: int
    start: datetime
    end: datetime


class TeamIn(Schema):
    """A team. With ``turn_days`` its members take turns, the first one from ``turn_start``; else all are called."""

    name: str
    members: list[int] = Field([], max_length=100)
    zone: str = "UTC"
    hours: str = ""
    turn_days: int = 0
    turn_start: datetime | None = None
    substitutes: list[SubstituteIO] = Field([], max_length=200)


class TeamChange(TeamIn):
    """A change of a team of this edition."""

    edition: int


class TeamOut(TeamIn):
    """A team, and who of it is on duty now."""

    model_config = ALWAYS

    id: int
    on_duty: list[str]
    plans: list[str]
    edition: int
    changed_at: datetime
    changed_by: str


def _team(team: Team) -> TeamOut:
    names = {place.contact_id: place.contact.name for place in team.places.all()}
    names |= {each.contact_id: each.contact.name for each in team.substitutions.all()}
    return TeamOut(
        members=[place.contact_id for place in team.places.all()],
        substitutes=[
            SubstituteIO(contact=s.contact_id, instead_of=s.instead_of_id, start=s.start, end=s.end)
            for s in team.substitutions.all()
        ],
        on_duty=[names[pk] for pk in teams.called(team, timezone.now())],
        plans=sorted({step.plan.name for step in team.steps.all()}),
        id=team.pk,
        **{name: getattr(team, name) for name in ("name", "zone", "hours", "turn_days", "turn_start", *EDITED)},
    )


@router.get("/teams", needs=ENGINEER.everywhere, response=list[TeamOut])
def list_teams(request: HttpRequest) -> list[TeamOut]:
    """All teams by name, with who is on duty now."""
    rows = Team.objects.prefetch_related("places__contact", "substitutions__contact", "steps__plan")
    return [_team(each) for each in rows]


def _team_spec(body: TeamIn) -> teams.TeamSpec:
    substitutes = [Substitute(s.contact, s.instead_of, s.start, s.end) for s in body.substitutes]
    given = {name: getattr(body, name) for name in ("name", "members", "zone", "hours", "turn_days", "turn_start")}
    return teams.TeamSpec(**given, substitutes=substitutes)


@router.post("/teams", needs=ENGINEER.everywhere, response={201: TeamOut})
def make_team(request: HttpRequest, body: TeamIn) -> Status[TeamOut]:
    """A new team."""
    with refusing():
        return Status(201, _team(teams.save(_team_spec(body), request.user.get_username())))


@router.put("/teams/{int:team}", needs=ENGINEER.everywhere, response=TeamOut)
def change_team(request: HttpRequest, team: int, body: TeamChange) -> TeamOut:
    """Change a team."""
    with refusing():
        return _team(teams.save(_team_spec(body), request.user.get_username(), team, body.edition))


@router.delete("/teams/{int:team}", needs=ENGINEER.everywhere, response={204: None})
def delete_team(request: HttpRequest, team: int) -> Status[None]:
    """Delete a team that no plan names."""
    with refusing(409):
        teams.delete(team, request.user.get_username())
    return Status(204, None)


class DestinationsIO(Schema):
    """Where messages other than mail may be sent: ranges of addresses, and names (``*.example.net``)."""

    ranges: str
    hosts: str = ""


class DestinationsOut(DestinationsIO):
    """The same, and who changed it last."""

    changed_at: datetime
    changed_by: str


def _destinations(row: Destinations) -> DestinationsOut:
    return DestinationsOut(ranges=row.ranges, hosts=row.hosts, changed_at=row.changed_at, changed_by=row.changed_by)


@router.get("/destinations", needs=ENGINEER.everywhere, response=DestinationsOut)
def show_destinations(request: HttpRequest) -> DestinationsOut:
    """Where messages may be sent."""
    return _destinations(destinations())


@router.put("/destinations", needs=ADMINISTRATOR.everywhere, response=DestinationsOut)
def change_destinations(request: HttpRequest, body: DestinationsIO) -> DestinationsOut:
    """Change where messages may be sent."""
    with refusing():
        return _destinations(contacts.allow(body.ranges, body.hosts, request.user.get_username()))
