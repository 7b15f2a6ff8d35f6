"""Who may call what. Every call is declared with what it needs; one that is not cannot be made.

@router.post("/devices/{int:device}/polls", needs=OPERATOR, response={202: PollAsked})
"""

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import wraps
from typing import Any, Protocol, TypeVar, cast

import ninja
from django.http import HttpRequest
from ninja.security import HttpBearer, SessionAuth

from lumtar.core.access import Role
from lumtar.domain.accounts import limits, services
from lumtar.domain.accounts.services import Person, person_of, person_of_token
from lumtar.server.api.problems import Problem
from lumtar.server.database import actor
from lumtar.server.database.actor import Actor
from lumtar.server.guarding import SAFE, address_of

F = TypeVar("F", bound=Callable[..., Any])


class Declare(Protocol):
    """Makes a call of a function, which stays what it is."""

    def __call__(self, view: F) -> F:
        """Declare it."""


LIMITS_FOR_S = 15.0
"""Seconds for which it is remembered what is in a group that somebody is limited to."""


@dataclass(frozen=True, slots=True)
class Need:
    """What a call needs: a role, and maybe that the caller is limited to no part of the network."""

    role: Role
    everything: bool = False

    @property
    def everywhere(self) -> "Need":
        """The same for those alone who see the whole network."""
        return replace(self, everything=True)


VIEWER, OPERATOR, ENGINEER, ADMINISTRATOR = (Need(role) for role in Role)
ANYBODY = None
"""No sign-in is needed."""
SEEN_EVERY_S = 60.0
"""A session that is in use is noted so often, not at every call."""
_seen: dict[str, float] = {}
_remembered: dict[tuple[tuple[int, ...], tuple[int, ...]], tuple[float, dict[str, str]]] = {}


def admit(request: HttpRequest, person: Person, need: Need) -> Person:
    """Let somebody in who may, and ask the database for them from now on.

    Raises
    ------
    Problem
        403, with what is missing
    """
    request.person = person  # type: ignore[attr-defined]
    request.user = person.user
    if not person.role.may(need.role):
        raise Problem(403, f"This needs the role {need.role}; yours is {person.role}.")
    if need.everything and person.is_limited:
        raise Problem(403, "This concerns the whole network, and you are limited to a part of it.")
    seen = _seen_by(person) if person.is_limited else None
    by = "" if request.method in SAFE else person.user.get_username()
    if by or seen is not None:
        actor.begin(Actor(by, request.audit, seen))  # type: ignore[attr-defined]
    return person


def _seen_by(person: Person) -> dict[str, str]:
    key = (person.sites, person.groups)
    known = _remembered.get(key)
    if known is None or time.monotonic() - known[0] > LIMITS_FOR_S:
        if not limits.is_installed():
            raise Problem(
                403, "The database cannot show you your part alone; an administrator can mend that (docs/security.md)."
            )
        if len(_remembered) > 1000:
            _remembered.clear()
        known = _remembered[key] = (time.monotonic(), limits.settings_of(*key))
    return known[1]


class ByToken(HttpBearer):
    """Authorization: Bearer."""

    def __init__(self, need: Need) -> None:
        super().__init__()
        self._need = need

    def authenticate(self, request: HttpRequest, token: str) -> Person | None:
        """Whose token this is, or None."""
        person = person_of_token(token, address_of(request))
        return admit(request, person, self._need) if person else None


class BySession(SessionAuth):
    """The cookie of somebody who signed in."""

    def __init__(self, need: Need) -> None:
        super().__init__(csrf=True)
        self._need = need

    def authenticate(self, request: HttpRequest, key: str | None) -> Person | None:
        """Whose session this is, or None."""
        if not request.user.is_authenticated:
            return None
        if key and time.monotonic() - _seen.get(key, float("-inf")) > SEEN_EVERY_S:
            if len(_seen) > 10_000:
                _seen.clear()
            _seen[key] = time.monotonic()
            services.note_seen(key)
        return admit(request, person_of(request.user), self._need)


class Router(ninja.Router):
    """A router whose calls all say what they need."""

    def _declare(self, method: str, path: str, needs: Need | None, more: dict[str, Any]) -> Declare:
        auth = None if needs is None else [ByToken(needs), BySession(needs)]
        register = getattr(super(), method)(path, auth=auth, **more)

        def declare(view: F) -> F:
            words = (view.__doc__ or "").strip().split(". ")[0].split(";")[0].strip().rstrip(".")

            @wraps(view)
            def named(request: HttpRequest, *args: Any, **more: Any) -> Any:
                # What the audit trail calls it.
                request.audit_what = words  # type: ignore[attr-defined]
                return view(request, *args, **more)

            named.needs = needs  # type: ignore[attr-defined]
            register(named)
            return cast(F, named)

        return declare

    def get(self, path: str, *, needs: Need | None, **more: Any) -> Declare:  # type: ignore[override]
        """A call that changes nothing."""
        return self._declare("get", path, needs, more)

    def post(self, path: str, *, needs: Need | None, **more: Any) -> Declare:  # type: ignore[override]
        """A call that makes or does something."""
        return self._declare("post", path, needs, more)

    def put(self, path: str, *, needs: Need | None, **more: Any) -> Declare:  # type: ignore[override]
        """A call that replaces something."""
        return self._declare("put", path, needs, more)

    def patch(self, path: str, *, needs: Need | None, **more: Any) -> Declare:  # type: ignore[override]
        """A call that changes something."""
        return self._declare("patch", path, needs, more)

    def delete(self, path: str, *, needs: Need | None, **more: Any) -> Declare:  # type: ignore[override]
        """A call that ends something."""
        return self._declare("delete", path, needs, more)
