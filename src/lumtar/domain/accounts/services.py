"""Making people and their tokens, recognising who comes, ending sessions."""

import hashlib
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from importlib import import_module

from django.conf import settings
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import connection, transaction
from django.utils import timezone

from lumtar.core.access import Role, least
from lumtar.core.refusal import Refusal
from lumtar.domain.accounts.models import Account, ApiToken, SignedIn
from lumtar.domain.inventory.models import Group, Site
from lumtar.domain.operation.editing import claim, mark
from lumtar.domain.operation.services import announce

OF_A_USER = frozenset(("id", "username", "is_active", "is_staff", "is_superuser"))
"""What is asked of somebody who comes with a token; the rest is fetched if it is wanted."""
LONGEST_TOKEN = timedelta(days=3660)
SEEN_EVERY = timedelta(minutes=1)


@dataclass(frozen=True, slots=True)
class Person:
    """Who asks, and what they may.

    Attributes
    ----------
    sites, groups : numbers of what they are limited to; with neither they see everything
    by : how they came, for the audit trail: "session" or the name of a token
    """

    user: User
    role: Role
    sites: tuple[int, ...] = ()
    groups: tuple[int, ...] = ()
    by: str = "session"

    @property
    def is_limited(self) -> bool:
        """Whether they see only a part of the network."""
        return bool(self.sites or self.groups)


def person_of(user: User, by: str = "session", at_most: Role | None = None) -> Person:
    """What a user may. Whoever has no account may look, a superuser without one may everything."""
    with connection.cursor() as cursor:
        cursor.execute(
            """SELECT a.role, (SELECT array_agg(site_id) FROM accounts_account_sites WHERE account_id = a.id),
                (SELECT array_agg(group_id) FROM accounts_account_groups WHERE account_id = a.id)
            FROM accounts_account a WHERE a.user_id = %s""",
            [user.pk],
        )
        row = cursor.fetchone()
    if row is None:
        role, sites, groups = Role.ADMINISTRATOR if user.is_superuser else Role.VIEWER, (), ()
    else:
        role, sites, groups = Role(row[0]), tuple(row[1] or ()), tuple(row[2] or ())
    return Person(user, least(role, at_most) if at_most else role, sites, groups, by)


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def new_token(
    user: User, name: str = "token", role: Role = Role.ADMINISTRATOR, expires_at: datetime | None = None
) -> str:
    """A new token, which is shown this once. It may no more than its owner, whatever its role says.

    Raises
    ------
    Refusal
        with a sentence for the person at the form
    """
    if not 1 <= len(name.strip()) <= 80:
        raise Refusal("A token's name has 1 to 80 characters; it says what the token is for.")
    now = timezone.now()
    if expires_at is not None and not now < expires_at <= now + LONGEST_TOKEN:
        raise Refusal("A token ends in the future, within ten years.")
    token = "lumtar_" + secrets.token_urlsafe(32)
    ApiToken.objects.create(user=user, name=name.strip(), role=role, digest=_digest(token), expires_at=expires_at)
    return token


def person_of_token(token: str, address: str | None = None) -> Person | None:
    """Whose token this is, if it is one, has neither ended nor been revoked, and its user may still sign in."""
    # Put together by hand: every call asks this first. Fields have to be in the order in which the model has them.
    fields = [field.name for field in User._meta.concrete_fields if field.name in OF_A_USER]
    sql = f"""SELECT t.id, t.used_at, t.name, t.role, {", ".join(f"u.{name}" for name in fields)}
        FROM accounts_apitoken t JOIN auth_user u ON u.id = t.user_id WHERE t.digest = %s AND u.is_active
        AND t.revoked_at IS NULL AND (t.expires_at IS NULL OR t.expires_at > now())"""
    with connection.cursor() as cursor:
        cursor.execute(sql, [_digest(token)])
        row = cursor.fetchone()
    if row is None:
        return None
    number, used_at, name, role, *values = row
    now = timezone.now()
    if used_at is None or now - used_at > SEEN_EVERY:
        ApiToken.objects.filter(pk=number).update(used_at=now, used_from=address)
    user = User.from_db(connection.alias, fields, values)
    return person_of(user, f"token {name}", Role(role))


def user_of_token(token: str) -> User | None:
    """The user of a token that is in force."""
    person = person_of_token(token)
    return person.user if person else None


def revoke(token: int, owner: User | None = None) -> ApiToken:
    """A token is good for nothing any more. With an owner only one of theirs is.

    Raises
    ------
    ApiToken.DoesNotExist
    """
    mine = ApiToken.objects.filter(user=owner) if owner else ApiToken.objects
    revoked = mine.get(pk=token)
    if revoked.revoked_at is None:
        revoked.revoked_at = timezone.now()
        revoked.save(update_fields=["revoked_at"])
    return revoked


def needs_first_user() -> bool:
    """Whether nobody can sign in yet."""
    return not User.objects.exists()


def create_first_user(name: str, password: str) -> User:
    """The administrator, made once.

    Raises
    ------
    Refusal
        with a sentence for the person at the form
    """
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_advisory_xact_lock(8470)")
        if not needs_first_user():
            raise Refusal("There is an administrator already. Sign in instead.")
        user = _named(User(username=name, is_staff=True, is_superuser=True))
        set_password(user, password)
        Account.objects.create(user=user, role=Role.ADMINISTRATOR, changed_by=name[:150])
    return user


def _named(user: User) -> User:
    user.username = user.username.strip()
    try:
        user.full_clean(exclude=["password"])
    except ValidationError as error:
        raise Refusal(" ".join(error.messages)) from error
    return user


def set_password(user: User, password: str) -> None:
    """Give somebody a password, and save them. Whoever was signed in with the old one is signed out by it.

    Raises
    ------
    Refusal
        with a sentence for the person at the form
    """
    if "\0" in password or len(password) > 200:
        raise Refusal("A password has at most 200 characters, none of them a zero.")
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise Refusal(" ".join(error.messages)) from error
    user.set_password(password)
    user.save()


@dataclass(frozen=True, slots=True)
class Wanted:
    """What an administrator says of a person."""

    role: Role
    sites: Sequence[str] = ()
    groups: Sequence[str] = ()
    email: str = ""
    active: bool = True


@transaction.atomic
def create_person(name: str, password: str, wanted: Wanted, by: str) -> Account:
    """Somebody new who may sign in.

    Raises
    ------
    Refusal
        with a sentence for the person at the form
    """
    if User.objects.filter(username__iexact=name.strip()).exists():
        raise Refusal(f"There is somebody called {name.strip()} already.")
    user = _named(User(username=name, email=wanted.email.strip(), is_active=wanted.active))
    set_password(user, password)
    account = Account(user=user, role=wanted.role)
    mark(account, by)
    _limit(account, wanted)
    return account


@transaction.atomic
def change_person(user: int, edition: int, wanted: Wanted, by: str, password: str = "") -> Account:
    """Change what somebody may, bar them or let them in again, give them another password.

    Raises
    ------
    Stale, Refusal, User.DoesNotExist
    """
    _lock_people()
    user_row = User.objects.select_for_update().get(pk=user)
    account, _ = Account.objects.get_or_create(user=user_row, defaults={"role": person_of(user_row).role})
    account = claim(Account, account.pk, edition)
    stays = wanted.active and wanted.role is Role.ADMINISTRATOR and not (wanted.sites or wanted.groups)
    if not stays and not _other_administrators(user):
        raise Refusal("Nobody else is an administrator of everything: make somebody else one first.")
    user_row.email, user_row.is_active = wanted.email.strip(), wanted.active
    user_row.is_superuser = user_row.is_staff = wanted.role is Role.ADMINISTRATOR
    _named(user_row)
    if password:
        set_password(user_row, password)
    user_row.save()
    account.role = wanted.role
    mark(account, by)
    _limit(account, wanted)
    if not wanted.active:
        end_sessions(user_row)
    return account


@transaction.atomic
def remove_person(user: int) -> str:
    """Delete somebody with their tokens and sessions; what they did stays in the audit trail. Returns the name.

    Raises
    ------
    Refusal, User.DoesNotExist
    """
    _lock_people()
    account = User.objects.select_for_update().get(pk=user)
    if not _other_administrators(user):
        raise Refusal("Nobody else is an administrator of everything: make somebody else one first.")
    end_sessions(account)
    name: str = account.username
    account.delete()
    return name


def _lock_people() -> None:
    """Two who bar each other at once take turns, else nobody would be left."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(8470)")


def _other_administrators(user: int) -> bool:
    others = User.objects.exclude(pk=user).filter(is_active=True)
    return any(person.role is Role.ADMINISTRATOR and not person.is_limited for person in map(person_of, others))


def _limit(account: Account, wanted: Wanted) -> None:
    sites, groups = Site.objects.filter(name__in=wanted.sites), Group.objects.filter(name__in=wanted.groups)
    for kind, names, chosen in (("site", wanted.sites, sites), ("group", wanted.groups, groups)):
        if missing := sorted(set(names) - {each.name for each in chosen}):
            raise Refusal(f"There is no {kind} {missing[0]!r}.")
    account.sites.set(sites)
    account.groups.set(groups)


def note_session(key: str, user: User, address: str | None, browser: str) -> None:
    """Somebody signed in."""
    SignedIn.objects.update_or_create(
        session=key, defaults={"user": user, "address": address, "browser": browser[:200], "seen_at": timezone.now()}
    )


def note_seen(key: str) -> None:
    """A session was used; written down once a minute at most."""
    now = timezone.now()
    SignedIn.objects.filter(session=key, seen_at__lt=now - SEEN_EVERY).update(seen_at=now)


def sessions_of(user: User) -> list[SignedIn]:
    """Where somebody is signed in, the one used last first."""
    store = import_module(settings.SESSION_ENGINE).SessionStore
    alive = store.get_model_class().objects.filter(expire_date__gt=timezone.now()).values("session_key")
    return list(SignedIn.objects.filter(user=user, session__in=alive).order_by("-seen_at"))


def end_sessions(user: User, keys: Sequence[str] | None = None, but: str | None = None) -> int:
    """End somebody's sessions: those with these keys, or all but one. Returns how many there were."""
    sessions = SignedIn.objects.filter(user=user)
    if keys is not None:
        sessions = sessions.filter(session__in=keys)
    if but:
        sessions = sessions.exclude(session=but)
    ended = list(sessions.values_list("session", flat=True))
    store = import_module(settings.SESSION_ENGINE).SessionStore
    store.get_model_class().objects.filter(session_key__in=ended).delete()
    SignedIn.objects.filter(session__in=ended).delete()
    if ended:
        # Streams that these sessions hold open end as well.
        announce("sessions")
    return len(ended)
