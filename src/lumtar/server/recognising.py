"""Whether a request comes from somebody, told by its headers alone."""

from importlib import import_module

from django.conf import settings
from django.contrib.auth import get_user
from django.http import HttpRequest

from lumtar.domain.accounts.services import person_of_token


def is_somebody(request: HttpRequest) -> bool:
    """Whether it carries a token that is in force, or the cookie of somebody who is signed in."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() == "bearer":
        return person_of_token(token.strip()) is not None
    key = request.COOKIES.get(settings.SESSION_COOKIE_NAME)
    if not key:
        return False
    request.session = import_module(settings.SESSION_ENGINE).SessionStore(key)
    return bool(get_user(request).is_authenticated)
