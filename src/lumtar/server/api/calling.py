"""Who is called: contacts, teams, call plans, and what was sent to whom."""

from datetime import datetime
from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Field, Status

from lumtar.core.access import Role
from lumtar.core.alarms.severity import Severity
from lumtar.core.calling import Substitute
from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import answers, messages
from lumtar.domain.alarms.models import AlarmChange, Message
from lumtar.domain.calling import contacts, plans, teams, templates
from lumtar.domain.calling.channels import CHANNELS
from lumtar.domain.calling.channels.reach import destinations
from lumtar.domain.calling.models import CallPlan, Contact, Destinations, Team
from lumtar.server.api import paging
from lumtar.server.api.access import ADMINISTRATOR, ANYBODY, ENGINEER, VIEWER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["calling"])


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


EDITED = ("edition", "changed_at", "changed_by")


@router.get("/contacts", needs=ENGINEER.everywhere, response=ContactsOut)
def list_contacts(request: HttpRequest) -> ContactsOut:
    """All contacts, without the secrets of their addresses."""
    rows = Contact.objects.prefetch_related("addresses", "places__team", "steps__plan")
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


class StepIO(Schema):
    """A step: after so many seconds without an acknowledgement. Without channels every address of a contact is used."""

    after_s: int = 0
    times: int = 1
    repeat_s: int = 0
    from_severity: int = Field(1, ge=1, le=5)
    channels: list[str] = []
    contacts: list[int] = Field([], max_length=100)
    teams: list[int] = Field([], max_length=100)


class PlanIn(Schema):
    """A call plan; empty texts are the standard ones."""

    name: str
    steps: list[StepIO] = Field([], max_length=50)
    on_worse: bool = True
    on_clear: bool = True
    raise_subject: str = Field("", max_length=300)
    raise_text: str = Field("", max_length=4000)
    clear_subject: str = Field("", max_length=300)
    clear_text: str = Field("", max_length=4000)


class PlanChange(PlanIn):
    """A change of a plan of this edition."""

    edition: int


class PlanOut(PlanIn):
    """A call plan; ``reaches_nobody`` if none of its steps would reach anybody now."""

    model_config = ALWAYS

    id: int
    rules: list[str]
    reaches_nobody: bool
    edition: int
    changed_at: datetime
    changed_by: str


class PlansOut(Schema):
    """All call plans by name, and what their texts can use."""

    rows: list[PlanOut]
    variables: dict[str, str]
    standard_subject: str
    standard_text: str


def _plan(row: CallPlan) -> PlanOut:
    names = ("name", "on_worse", "on_clear", *plans.TEXTS, *EDITED)
    steps = row.steps.prefetch_related("contacts", "teams")
    return PlanOut(
        steps=[
            StepIO(
                contacts=[each.pk for each in step.contacts.all()],
                teams=[each.pk for each in step.teams.all()],
                **{name: getattr(step, name) for name in ("after_s", "times", "repeat_s", "from_severity", "channels")},
            )
            for step in steps
        ],
        id=row.pk,
        rules=list(row.rules.order_by("pk").values_list("name", flat=True)),
        reaches_nobody=plans.Plan.kept(row).reaches_nobody(timezone.now(), Severity.CRITICAL),
        **{name: getattr(row, name) for name in names},
    )


@router.get("/plans", needs=VIEWER.everywhere, response=PlansOut)
def list_plans(request: HttpRequest) -> PlansOut:
    """All call plans by name."""
    return PlansOut(
        rows=[_plan(each) for each in CallPlan.objects.all()],
        variables=templates.VARIABLES,
        standard_subject=messages.STANDARD_SUBJECT,
        standard_text=messages.STANDARD_TEXT,
    )


def _plan_spec(body: PlanIn) -> plans.PlanSpec:
    given = body.model_dump(include=set(PlanIn.model_fields))
    return plans.PlanSpec(**{**given, "steps": [plans.StepSpec(**each) for each in given["steps"]]})


@router.post("/plans", needs=ENGINEER.everywhere, response={201: PlanOut})
def make_plan(request: HttpRequest, body: PlanIn) -> Status[PlanOut]:
    """A new call plan."""
    with refusing():
        return Status(201, _plan(plans.save(_plan_spec(body), request.user.get_username())))


@router.put("/plans/{int:plan}", needs=ENGINEER.everywhere, response=PlanOut)
def change_plan(request: HttpRequest, plan: int, body: PlanChange) -> PlanOut:
    """Change a call plan; alarms that are being told go on by it."""
    with refusing():
        return _plan(plans.save(_plan_spec(body), request.user.get_username(), plan, body.edition))


@router.delete("/plans/{int:plan}", needs=ENGINEER.everywhere, response={204: None})
def delete_plan(request: HttpRequest, plan: int) -> Status[None]:
    """Delete a call plan that no rule has."""
    with refusing(409):
        plans.delete(plan, request.user.get_username())
    return Status(204, None)


class CalledOut(Schema):
    """Whom a call would reach; ``step`` counts from 1, ``round`` too."""

    after_s: int
    step: int
    round: int
    contacts: list[str]
    addresses: list[str]


class WouldCallOut(Schema):
    """Who would be called now, in the order of time, as long as nobody acknowledges."""

    calls: list[CalledOut]


class WouldCallIn(PlanIn):
    """A plan that is not kept, for an alarm of a severity, at a time (now, if none is given)."""

    severity: int = Field(5, ge=1, le=5)
    at: datetime | None = None


@router.post("/plans/would", needs=ENGINEER.everywhere, response=WouldCallOut)
def would_call(request: HttpRequest, body: WouldCallIn) -> WouldCallOut:
    """Who would be called for an alarm that is raised now; nothing is kept and nobody is called."""
    with refusing():
        spec = _plan_spec(PlanIn(**{**body.model_dump(include=set(PlanIn.model_fields)), "name": body.name or "new"}))
        plans.check(spec)
        at, severity = body.at or timezone.now(), Severity(body.severity)
        loaded = plans.Plan.drafted(spec)
        rows = [loaded.reached(call, at, severity) for call in loaded.calls]
    return WouldCallOut(
        calls=[
            CalledOut(
                after_s=each.call.after_s, step=each.call.step + 1, round=each.call.round + 1,
                contacts=[contact.name for contact in each.contacts],
                addresses=[f"{a.contact.name}: {CHANNELS[a.channel].words.lower()} {a.shown}" for a in each.addresses],
            )
            for each in rows
        ]
    )  # fmt: skip


class PreviewIn(PlanIn):
    """A plan that is not kept, and the alarm that its texts are filled with; without one the newest."""

    alarm: int | None = None
    cleared: bool = False


class PreviewOut(Schema):
    """What would be sent; ``about`` is empty if there is no alarm yet to fill it with."""

    about: str
    subject: str
    text: str


@router.post("/plans/preview", needs=ENGINEER.everywhere, response=PreviewOut)
def preview_texts(request: HttpRequest, body: PreviewIn) -> PreviewOut:
    """What a plan's texts say about a real alarm; nothing is kept."""
    texts = CallPlan(**{name: getattr(body, name) for name in plans.TEXTS})
    rows = AlarmChange.objects.select_related("alarm__rule").order_by("-at")
    rows = rows.filter(severity=0) if body.cleared else rows.filter(severity__gt=0)
    change = (rows.filter(alarm_id=body.alarm) if body.alarm is not None else rows).first()
    with refusing():
        for name in plans.TEXTS:
            templates.check(getattr(texts, name))
        if change is None:
            return PreviewOut(about="", subject="", text="")
        subject, text = messages.preview(texts, change)
    return PreviewOut(about=change.alarm.label, subject=subject, text=text)


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


class AboutOut(Schema):
    """An alarm in a message."""

    alarm: int
    label: str
    severity: int
    at: datetime


class MessageOut(Schema):
    """A message: to whom, when, how far it got, and what was answered. The first alarms that it is about are named."""

    id: int
    contact: str
    channel: str
    target: str
    state: Message.State
    created_at: datetime
    sent_at: datetime | None
    next_at: datetime
    attempts: int
    answer: str
    alarms: int
    about: list[AboutOut]


class MessagesOut(Schema):
    """A page of messages, newest first."""

    rows: list[MessageOut]
    next: str | None


NAMED = 3


@router.get("/messages", needs=VIEWER.everywhere, response=MessagesOut)
def list_messages(
    request: HttpRequest, words: str = "", state: str = "", limit: int = 100, cursor: str | None = None
) -> MessagesOut:
    """What was sent to whom, newest first."""
    begin, size = paging.offset(cursor), max(1, min(limit, 500))
    rows = Message.objects.order_by("-created_at", "-pk").prefetch_related("notifications__change__alarm")
    if words.strip():
        rows = rows.filter(contact__icontains=words.strip()) | rows.filter(target__icontains=words.strip())
    if state:
        if state not in Message.State.values:
            with refusing():
                raise Refusal(f"There is no state {state}; there are {', '.join(Message.State.values)}.", "state")
        rows = rows.filter(state=state)
    page = list(rows[begin : begin + size + 1])
    return MessagesOut(
        rows=[_message(each) for each in page[:size]], next=paging.following(begin, size, begin + len(page))
    )


def _message(row: Message) -> MessageOut:
    told = list(row.notifications.all())
    named: list[dict[str, Any]] = [
        {
            "alarm": each.change.alarm_id,
            "label": each.change.alarm.label,
            "severity": each.change.severity,
            "at": each.change.at,
        }
        for each in told[:NAMED]
    ]
    names = ("contact", "channel", "target", "state", "created_at", "sent_at", "next_at", "attempts", "answer")
    return MessageOut(
        id=row.pk, alarms=len(told), about=[AboutOut(**each) for each in named],
        **{name: getattr(row, name) for name in names},
    )  # fmt: skip


class AnswerIn(Schema):
    """What stands behind the sharp sign of a message's link."""

    token: str = Field(max_length=200)


class AskedOut(Schema):
    """What a message's link is about: to whom it was sent, and what of it is still active."""

    contact: str
    alarms: list[str]


class AcknowledgedOut(Schema):
    """How many alarms were acknowledged."""

    alarms: int


@router.post("/answers/look", needs=ANYBODY, response=AskedOut)
def look_at_answer(request: HttpRequest, body: AnswerIn) -> AskedOut:
    """What a message's link is about; nothing is done yet."""
    with refusing(403):
        asked = answers.asked(body.token)
    return AskedOut(contact=asked.contact, alarms=[alarm.label for alarm in asked.alarms[:50]])


@router.post("/answers", needs=ANYBODY, response=AcknowledgedOut)
def answer(request: HttpRequest, body: AnswerIn) -> AcknowledgedOut:
    """Acknowledge what is still active of a message, in the name of whom it was sent to."""
    with refusing(403):
        return AcknowledgedOut(alarms=answers.acknowledge(body.token))
