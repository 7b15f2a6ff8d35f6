"""Signing in and out, the first administrator, and one's own password."""

from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.contrib.auth.models import User
from django.http import HttpRequest
from django.middleware.csrf import get_token

from lumtar.core.access import Role
from lumtar.core.refusal import Refusal
from lumtar.domain.accounts import services
from lumtar.domain.accounts.services import person_of
from lumtar.server import limiting
from lumtar.server.api.access import ANYBODY, VIEWER, Router
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema
from lumtar.server.guarding import address_of

router = Router(tags=["session"])
MODEL_BACKEND = "django.contrib.auth.backends.ModelBackend"


class SessionOut(Schema):
    """Whether somebody is signed in here, and what they may; ``first_run`` asks for the administrator to be made."""

    user: str | None
    role: Role | None
    limited: bool
    first_run: bool


class SignIn(Schema):
    """A name and a password."""

    name: str
    password: str


class PasswordChange(Schema):
    """The password in force, and the one to have instead."""

    old: str
    new: str


def _state(request: HttpRequest) -> SessionOut:
    get_token(request)
    if isinstance(request.user, User):
        person = person_of(request.user)
        return SessionOut(
            user=request.user.get_username(), role=person.role, limited=person.is_limited, first_run=False
        )
    return SessionOut(user=None, role=None, limited=False, first_run=services.needs_first_user())


def _enter(request: HttpRequest, user: User, backend: str | None = None) -> SessionOut:
    login(request, user, backend=backend)
    request.audit_name = user.get_username()  # type: ignore[attr-defined]
    services.note_session(
        request.session.session_key or "", user, address_of(request), request.headers.get("User-Agent", "")
    )
    return _state(request)


@router.get("", needs=ANYBODY, response=SessionOut)
def session(request: HttpRequest) -> SessionOut:
    """Who is signed in; sets the cookie that later writes must prove."""
    return _state(request)


@router.post("", needs=ANYBODY, response=SessionOut)
def sign_in(request: HttpRequest, body: SignIn) -> SessionOut:
    """Sign in. Too many wrong passwords lock the name out for a quarter of an hour."""
    name = body.name.strip()
    if len(name) > 150 or len(body.password) > 200:
        raise Problem(401, "Wrong name or password.")
    limiting.SIGN_INS_OF_ADDRESS.take(address_of(request) or "")
    limiting.SIGN_INS_OF_NAME.take(name.lower())
    limiting.SIGN_INS_IN_ALL.take()
    with limiting.HASHING.taken():
        user = authenticate(request, username=name, password=body.password)
    if user is None:
        if User.objects.filter(username=name).exists():
            # A name that is none may be a password in the wrong field.
            request.audit_name = name  # type: ignore[attr-defined]
        if getattr(request, "axes_locked_out", False):
            raise Problem(403, "Too many wrong passwords. Wait a quarter of an hour, then try again.")
        raise Problem(401, "Wrong name or password.")
    assert isinstance(user, User)
    limiting.SIGN_INS_OF_ADDRESS.give_back(address_of(request) or "")
    limiting.SIGN_INS_OF_NAME.give_back(name.lower())
    return _enter(request, user)


@router.delete("", needs=VIEWER, response=SessionOut)
def sign_out(request: HttpRequest) -> SessionOut:
    """Sign out; what this session holds open ends as well."""
    key = request.session.session_key
    if key and isinstance(request.user, User):
        services.end_sessions(request.user, [key])
    logout(request)
    return _state(request)


@router.post("/first-run", needs=ANYBODY, response=SessionOut)
def first_run(request: HttpRequest, body: SignIn) -> SessionOut:
    """Make the administrator on an empty installation, and sign in."""
    limiting.SIGN_INS_IN_ALL.take()
    with limiting.HASHING.taken():
        try:
            user = services.create_first_user(body.name, body.password)
        except Refusal as error:
            raise Problem(409 if not services.needs_first_user() else 422, str(error)) from error
    return _enter(request, user, MODEL_BACKEND)


@router.put("/password", needs=VIEWER, response=SessionOut)
def change_password(request: HttpRequest, body: PasswordChange) -> SessionOut:
    """Change one's own password. All other sessions of the same person end."""
    assert isinstance(request.user, User)
    user = User.objects.get(pk=request.user.pk)
    limiting.SIGN_INS_OF_NAME.take(user.get_username().lower())
    with limiting.HASHING.taken():
        if not user.check_password(body.old):
            raise Problem(422, "That is not your password now.", "old")
        with refusing():
            services.set_password(user, body.new)
    limiting.SIGN_INS_OF_NAME.give_back(user.get_username().lower())
    services.end_sessions(user, but=request.session.session_key)
    if request.session.session_key:
        before = request.session.session_key
        update_session_auth_hash(request, user)
        services.end_sessions(user, [before])
        services.note_session(
            request.session.session_key or "", user, address_of(request), request.headers.get("User-Agent", "")
        )
    return _state(request)
