"""People and what they may; tokens; where somebody is signed in; the audit trail."""

from datetime import datetime, timedelta
from typing import Any

from django.contrib.auth.models import User
from django.http import HttpRequest
from ninja import Status

from lumtar.core.access import Role
from lumtar.domain.accounts import services
from lumtar.domain.accounts.models import Account, ApiToken
from lumtar.domain.accounts.services import Wanted, person_of
from lumtar.domain.audit import queries as audit
from lumtar.server import limiting
from lumtar.server.api import paging
from lumtar.server.api.access import ADMINISTRATOR, VIEWER, Router
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import span

router = Router(tags=["people"])
MAY: dict[Role, str] = {
    Role.VIEWER: "looks at everything that is measured",
    Role.OPERATOR: "also responds: polls now, looks live, acknowledges",
    Role.ENGINEER: "also sets up: devices, profiles, rules, sweeps, groups",
    Role.ADMINISTRATOR: "also people, secrets and the system",
}


class PersonOut(Schema):
    """Somebody who may sign in."""

    id: int
    name: str
    email: str
    role: Role
    sites: list[str]
    groups: list[str]
    active: bool
    edition: int
    last_sign_in: datetime | None
    sessions: int
    tokens: int


class RoleOut(Schema):
    """A role, and what it may."""

    role: Role
    may: str


class PeopleOut(Schema):
    """Everybody, and the roles that there are."""

    people: list[PersonOut]
    roles: list[RoleOut]


class PersonIn(Schema):
    """What an administrator says of a person. With neither sites nor groups they see everything."""

    email: str = ""
    role: Role = Role.VIEWER
    sites: list[str] = []
    groups: list[str] = []
    active: bool = True

    @property
    def wanted(self) -> Wanted:
        """The same for the domain."""
        return Wanted(self.role, self.sites, self.groups, self.email, self.active)


class NewPerson(PersonIn):
    """Somebody new."""

    name: str
    password: str


class PersonChange(PersonIn):
    """A change, as seen at an edition; a password only if it is to be another one."""

    edition: int
    password: str = ""


def _people() -> list[PersonOut]:
    accounts = {a.user_id: a for a in Account.objects.prefetch_related("sites", "groups")}
    tokens = ApiToken.objects.filter(revoked_at=None)
    listed = []
    for user in User.objects.order_by("username"):
        account = accounts.get(user.pk)
        listed.append(
            PersonOut(
                id=user.pk,
                name=user.username,
                email=user.email,
                role=Role(account.role) if account else person_of(user).role,
                sites=[site.name for site in account.sites.all()] if account else [],
                groups=[group.name for group in account.groups.all()] if account else [],
                active=user.is_active,
                edition=account.edition if account else 1,
                last_sign_in=user.last_login,
                sessions=len(services.sessions_of(user)),
                tokens=tokens.filter(user=user).count(),
            )
        )
    return listed


def _person(user: int) -> PersonOut:
    return next(each for each in _people() if each.id == user)


@router.get("/people", needs=ADMINISTRATOR.everywhere, response=PeopleOut)
def list_people(request: HttpRequest) -> PeopleOut:
    """Everybody who may sign in."""
    return PeopleOut(people=_people(), roles=[RoleOut(role=role, may=may) for role, may in MAY.items()])


@router.post("/people", needs=ADMINISTRATOR.everywhere, response={201: PersonOut})
def make_person(request: HttpRequest, body: NewPerson) -> Status[PersonOut]:
    """Add a person."""
    with refusing(), limiting.HASHING.taken():
        made = services.create_person(body.name, body.password, body.wanted, request.user.get_username())
    return Status(201, _person(made.user_id))


@router.put("/people/{int:user}", needs=ADMINISTRATOR.everywhere, response=PersonOut)
def change_person(request: HttpRequest, user: int, body: PersonChange) -> PersonOut:
    """Change what somebody may, bar them, or give them another password."""
    by = request.user.get_username()
    with refusing(), limiting.HASHING.taken():
        services.change_person(user, body.edition, body.wanted, by, body.password)
    return _person(user)


@router.delete("/people/{int:user}", needs=ADMINISTRATOR.everywhere, response={204: None})
def delete_person(request: HttpRequest, user: int) -> Status[None]:
    """Delete somebody; what they did stays in the audit trail."""
    with refusing(409):
        services.remove_person(user)
    return Status(204, None)


@router.delete("/people/{int:user}/sessions", needs=ADMINISTRATOR.everywhere, response={204: None})
def end_everywhere(request: HttpRequest, user: int) -> Status[None]:
    """Sign somebody out everywhere."""
    services.end_sessions(User.objects.get(pk=user))
    return Status(204, None)


class TokenOut(Schema):
    """A token, without what it consists of."""

    id: int
    name: str
    user: str
    role: Role
    created_at: datetime
    expires_at: datetime | None
    revoked_at: datetime | None
    used_at: datetime | None
    used_from: str | None


class TokenIn(Schema):
    """What a token is for, what it may at most, and for how many days."""

    name: str
    role: Role = Role.VIEWER
    days: int | None = 90


class NewToken(Schema):
    """A new token. ``secret`` is shown this once."""

    token: TokenOut
    secret: str


def _token(token: ApiToken) -> TokenOut:
    return TokenOut(
        id=token.pk, name=token.name, user=token.user.get_username(), role=Role(token.role), created_at=token.created_at,
        expires_at=token.expires_at, revoked_at=token.revoked_at, used_at=token.used_at, used_from=token.used_from,
    )  # fmt: skip


def _sees_all(request: HttpRequest) -> bool:
    person: services.Person = request.person  # type: ignore[attr-defined]
    return person.role is Role.ADMINISTRATOR and not person.is_limited


@router.get("/tokens", needs=VIEWER, response=list[TokenOut])
def list_tokens(request: HttpRequest) -> list[TokenOut]:
    """One's own tokens; an administrator sees everybody's."""
    tokens = ApiToken.objects.select_related("user").order_by("revoked_at", "user__username", "name")
    if not _sees_all(request):
        tokens = tokens.filter(user__username=request.user.get_username())
    return [_token(each) for each in tokens]


@router.post("/tokens", needs=VIEWER, response={201: NewToken})
def make_token(request: HttpRequest, body: TokenIn) -> Status[NewToken]:
    """Make a token for oneself; it may at most what its role says, and never more than its owner."""
    person: services.Person = request.person  # type: ignore[attr-defined]
    if not person.role.may(body.role):
        raise Problem(422, f"A token may no more than you: at most {person.role}.", "role")
    if person.by != "session":
        raise Problem(403, "A token cannot make another one; sign in for that.")
    if body.days is not None and not 1 <= body.days <= 3650:
        raise Problem(422, "A token is good for 1 to 3,650 days, or without an end.", "days")
    ends = datetime.now().astimezone() + timedelta(days=body.days) if body.days else None
    assert isinstance(request.user, User)
    with refusing():
        secret = services.new_token(request.user, body.name, body.role, ends)
    made = ApiToken.objects.select_related("user").filter(user=request.user).latest("pk")
    return Status(201, NewToken(token=_token(made), secret=secret))


@router.delete("/tokens/{int:token}", needs=VIEWER, response={204: None})
def revoke_token(request: HttpRequest, token: int) -> Status[None]:
    """Revoke a token, at once and for good."""
    assert isinstance(request.user, User)
    services.revoke(token, None if _sees_all(request) else request.user)
    return Status(204, None)


class SignedInOut(Schema):
    """A browser in which somebody is signed in; ``id`` names it, and is good for nothing else."""

    id: str
    here: bool
    since: datetime
    seen_at: datetime
    address: str | None
    browser: str


@router.get("/sessions", needs=VIEWER, response=list[SignedInOut])
def list_sessions(request: HttpRequest) -> list[SignedInOut]:
    """List the sessions of the person who asks."""
    assert isinstance(request.user, User)
    here = request.session.session_key
    return [
        SignedInOut(
            id=_name_of(each.session), here=each.session == here, since=each.created_at, seen_at=each.seen_at,
            address=each.address, browser=each.browser,
        )
        for each in services.sessions_of(request.user)
    ]  # fmt: skip


def _name_of(key: str) -> str:
    """A session's name that does not open it."""
    return services._digest(key)[:16]


@router.delete("/sessions", needs=VIEWER, response={204: None})
def end_others(request: HttpRequest) -> Status[None]:
    """Sign out everywhere but here."""
    assert isinstance(request.user, User)
    services.end_sessions(request.user, but=request.session.session_key)
    return Status(204, None)


@router.delete("/sessions/{id}", needs=VIEWER, response={204: None})
def end_one(request: HttpRequest, id: str) -> Status[None]:
    """Sign out in one browser."""
    assert isinstance(request.user, User)
    keys = [each.session for each in services.sessions_of(request.user) if _name_of(each.session) == id]
    if not keys:
        raise Problem(404, "There is no such session; it may have ended meanwhile.")
    services.end_sessions(request.user, keys)
    return Status(204, None)


class AuditedChange(Schema):
    """What became of one thing; a secret is only said to be another one."""

    what: str
    name: str
    kind: str
    before: dict[str, Any]
    after: dict[str, Any]


class AuditOut(Schema):
    """Something that somebody asked for, and what it changed. ``status`` is that of HTTP."""

    at: datetime
    by: str
    via: str
    address: str | None
    what: str
    path: str
    status: int
    changes: list[AuditedChange]
    more: int


class AuditPage(Schema):
    """A page of the audit trail."""

    rows: list[AuditOut]
    total: int
    next: str | None


@router.get("/audit", needs=ADMINISTRATOR.everywhere, response=AuditPage)
def audit_trail(
    request: HttpRequest,
    words: str = "",
    start: datetime | None = None,
    end: datetime | None = None,
    cursor: str | None = None,
) -> AuditPage:
    """Who asked for what and what it changed, the newest first."""
    since, until = span(start, end, timedelta(days=3650))
    begin = paging.offset(cursor)
    rows, total = audit.entries(since, until, words[:200], begin)
    shown = [AuditOut.model_validate(row) for row in rows]
    return AuditPage(rows=shown, total=total, next=paging.following(begin, len(shown), total))
