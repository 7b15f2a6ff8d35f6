"""Who asks: a session of the browser, or a token."""

from typing import Any

from django.contrib.auth import authenticate, login, logout
from django.http import HttpRequest
from django.middleware.csrf import get_token
from ninja import Router, Schema
from ninja.security import HttpBearer, SessionAuth

from lumtar.domain.accounts import services
from lumtar.server.api.problems import Problem


class TokenAuth(HttpBearer):
    """Authorization: Bearer."""

    def authenticate(self, request: HttpRequest, token: str) -> Any:
        """The token's user, or None."""
        user = services.user_of_token(token)
        if user is not None:
            request.user = user
        return user


SIGNED_IN = [TokenAuth(), SessionAuth(csrf=True)]
router = Router(tags=["session"])


class SessionOut(Schema):
    """Whether somebody is signed in here; ``first_run`` asks for the administrator to be made."""

    user: str | None
    first_run: bool


class SignIn(Schema):
    """A name and a password."""

    name: str
    password: str


def _state(request: HttpRequest) -> SessionOut:
    get_token(request)
    if request.user.is_authenticated:
        return SessionOut(user=request.user.get_username(), first_run=False)
    return SessionOut(user=None, first_run=services.needs_first_user())


@router.get("", auth=None, response=SessionOut)
def session(request: HttpRequest) -> SessionOut:
    """Who is signed in; sets the cookie that later writes must prove."""
    return _state(request)


@router.post("", auth=None, response=SessionOut)
def sign_in(request: HttpRequest, told: SignIn) -> SessionOut:
    """Sign in. Too many wrong passwords lock the name out for a quarter of an hour."""
    user = authenticate(request, username=told.name, password=told.password)
    if user is None:
        if getattr(request, "axes_locked_out", False):
            raise Problem(403, "Too many wrong passwords. Wait a quarter of an hour, then try again.")
        raise Problem(401, "That name and password do not belong together.")
    login(request, user)
    return _state(request)


@router.delete("", auth=SIGNED_IN, response=SessionOut)
def sign_out(request: HttpRequest) -> SessionOut:
    """Sign out."""
    logout(request)
    return _state(request)


@router.post("/first-run", auth=None, response=SessionOut)
def first_run(request: HttpRequest, told: SignIn) -> SessionOut:
    """Make the administrator on an empty installation, and sign in."""
    try:
        user = services.create_first_user(told.name, told.password)
    except ValueError as error:
        raise Problem(409 if not services.needs_first_user() else 422, str(error)) from error
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    return _state(request)
