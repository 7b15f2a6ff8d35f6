"""What every request passes: which host it names, where it comes from, for whom it asks, and what is written down of it."""

from collections.abc import AsyncIterable, AsyncIterator, Callable, Iterator
from contextlib import suppress
from typing import Any
from urllib.parse import urlsplit
from uuid import uuid4

import structlog
from django.conf import settings
from django.core.exceptions import DisallowedHost
from django.db import DatabaseError, InterfaceError
from django.http import HttpRequest
from django.http.response import HttpResponseBase, StreamingHttpResponse

from lumtar.domain.audit.models import AuditEntry
from lumtar.server.api.problems import problem
from lumtar.server.database import actor
from lumtar.server.database.actor import ACTOR, Actor

log = structlog.get_logger()
Answering = Callable[[HttpRequest], HttpResponseBase]
SAFE = ("GET", "HEAD", "OPTIONS")
OF_FORMS = ("application/x-www-form-urlencoded", "multipart/form-data", "text/plain")
"""What a page of somebody else can make a browser send here without asking first."""
YEAR_S = 31_536_000


def address_of(request: HttpRequest) -> str | None:
    """Where a request comes from: who is connected, or whom a configured proxy names."""
    return request.META.get("REMOTE_ADDR") or None


def has_token(request: HttpRequest) -> bool:
    """Whether it proves itself by what no browser sends unasked."""
    return request.headers.get("Authorization", "").lower().startswith("bearer ")


class Border:
    """Refuses what names another host, comes from another site's page, or cannot be meant."""

    def __init__(self, answer: Answering) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        """Answer, or refuse."""
        refused = self._refused(request)
        answer = refused or self._answer(request)
        if request.is_secure():
            answer.headers["Strict-Transport-Security"] = f"max-age={YEAR_S}; includeSubDomains"
            for cookie in answer.cookies.values():
                cookie["secure"] = True
        if request.path.startswith("/api/"):
            answer.headers.setdefault("Cache-Control", "no-store")
        return answer

    def _refused(self, request: HttpRequest) -> HttpResponseBase | None:
        try:
            host = request.get_host()
        except DisallowedHost:
            return problem(400, "This name is not one that Lumtar answers to; LUMTAR_HOSTS says which are.")
        if "\0" in request.path:
            return problem(404, "There is nothing with a zero in its address.")
        if request.method in SAFE or has_token(request):
            return None
        if not self._is_own_page(request, host):
            return problem(403, "This was sent by a page of another site; LUMTAR_ORIGINS says which may.")
        kind = (request.content_type or "").lower()
        if kind in OF_FORMS and (request.META.get("CONTENT_LENGTH") or "0") != "0":
            return problem(415, "Send it as application/json.")
        return None

    @staticmethod
    def _is_own_page(request: HttpRequest, host: str) -> bool:
        origin = request.headers.get("Origin")
        if origin is not None:
            own = f"{'https' if request.is_secure() else 'http'}://{host}"
            return origin in (own, *settings.CSRF_TRUSTED_ORIGINS)
        if site := request.headers.get("Sec-Fetch-Site"):
            return site in ("same-origin", "none")
        referer = urlsplit(request.headers.get("Referer", ""))
        return not referer.netloc or referer.netloc == host


class Acting:
    """The database is asked for whoever is recognised on the way; every write is in the audit trail, done or refused."""

    def __init__(self, answer: Answering) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        """Answer, and write down what was asked for."""
        request.audit = uuid4()  # type: ignore[attr-defined]
        try:
            answer = self._answer(request)
            acting = ACTOR.get()
        finally:
            actor.end()
        if acting is not None and acting.limits is not None and isinstance(answer, StreamingHttpResponse):
            _limit(answer, acting)
        if request.method not in SAFE and request.path.startswith("/api/"):
            self._write_down(request, answer.status_code)
        return answer

    @staticmethod
    def _write_down(request: HttpRequest, status: int) -> None:
        person = getattr(request, "person", None)
        by = getattr(request, "audit_name", "") or (person.user.get_username() if person else "")
        try:
            AuditEntry.objects.create(
                request=request.audit,  # type: ignore[attr-defined]
                by=by[:150],
                via=(person.by if person else "")[:100],
                address=address_of(request),
                what=getattr(request, "audit_what", "")[:200] or f"{request.method} {request.path}"[:200],
                path=request.path[:300],
                status=status,
            )
        except (DatabaseError, InterfaceError) as error:
            log.warning("not in the audit trail", path=request.path, by=by, status=status, error=str(error))


def _limit(answer: StreamingHttpResponse, acting: Actor) -> None:
    """A stream asks the database when it is read, which is later and maybe in another thread: for the same person."""
    source = answer.streaming_content
    answer.streaming_content = (
        _each_async(source, acting) if isinstance(source, AsyncIterable) else _each(iter(source), acting)
    )


def _each(source: Iterator[Any], acting: Actor) -> Iterator[Any]:
    while True:
        actor.begin(acting)
        try:
            part = next(source)
        except StopIteration:
            return
        finally:
            actor.end()
        yield part


async def _each_async(source: AsyncIterable[Any], acting: Actor) -> AsyncIterator[Any]:
    token = None
    parts = source.__aiter__()
    try:
        while True:
            token = ACTOR.set(acting)
            try:
                part = await parts.__anext__()
            except StopAsyncIteration:
                return
            finally:
                ACTOR.reset(token)
            yield part
    finally:
        with suppress(AttributeError):
            await parts.aclose()  # type: ignore[attr-defined]
