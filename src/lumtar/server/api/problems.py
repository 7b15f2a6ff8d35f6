"""Errors as problem details (RFC 9457)."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import structlog
from django.http import HttpRequest, HttpResponse, JsonResponse
from ninja import NinjaAPI
from ninja.errors import AuthenticationError, HttpError, ValidationError

from lumtar.core.refusal import Refusal

log = structlog.get_logger()
TITLES = {
    400: "Not understood",
    401: "Not signed in",
    403: "Not allowed",
    404: "Not there",
    409: "Conflict",
    413: "Too much",
    415: "Not JSON",
    422: "Not valid",
    429: "Too often",
    503: "Not now",
}


class Problem(Exception):
    """An error answer: a status, what happened in words, and the field it belongs to, if any."""

    def __init__(self, status: int, detail: str, field: str = "") -> None:
        super().__init__(detail)
        self.status = status
        self.detail = detail
        self.field = field


@contextmanager
def refusing(status: int = 422) -> Iterator[None]:
    """What the domain refuses with a sentence becomes an answer with that sentence."""
    try:
        yield
    except Refusal as error:
        raise Problem(status, error.sentence, error.field) from error


def problem(status: int, detail: str, errors: list[dict[str, str]] | None = None) -> HttpResponse:
    """An application/problem+json answer."""
    body: dict[str, Any] = {
        "type": "about:blank",
        "title": TITLES.get(status, "Error"),
        "status": status,
        "detail": detail,
    }
    if errors:
        body["errors"] = errors
    return JsonResponse(body, status=status, content_type="application/problem+json")


def locked_out(request: HttpRequest, *_: object, **__: object) -> HttpResponse:
    """The answer to whoever gave too many wrong passwords."""
    return problem(403, "Too many wrong passwords. Wait a quarter of an hour, then try again.")


def install(api: NinjaAPI) -> None:
    """Answer every kind of error as problem details."""

    @api.exception_handler(Problem)
    def _problem(request: HttpRequest, error: Problem) -> HttpResponse:
        errors = [{"field": error.field, "detail": error.detail}] if error.field else None
        return problem(error.status, error.detail, errors)

    @api.exception_handler(ValidationError)
    def _invalid(request: HttpRequest, error: ValidationError) -> HttpResponse:
        errors = [
            {"field": ".".join(str(part) for part in each["loc"][1:]), "detail": str(each["msg"])}
            for each in error.errors
        ]
        return problem(
            422,
            "Some values are not valid: " + "; ".join(f"{each['field']}: {each['detail']}" for each in errors),
            errors,
        )

    @api.exception_handler(AuthenticationError)
    def _unknown(request: HttpRequest, error: AuthenticationError) -> HttpResponse:
        return problem(401, "Sign in, or send a token as Authorization: Bearer.")

    @api.exception_handler(HttpError)
    def _http(request: HttpRequest, error: HttpError) -> HttpResponse:
        return problem(error.status_code, str(error))
