"""The event stream: one listening connection a web process, shared by everybody who watches."""

import asyncio
import time
from collections.abc import AsyncIterator
from contextlib import suppress

import psycopg
import structlog
from django.contrib.auth.models import User
from django.contrib.sessions.models import Session
from django.db import DatabaseError, InterfaceError, close_old_connections, connection
from django.http import HttpRequest, HttpResponseBase, StreamingHttpResponse
from django.utils import timezone

from lumtar.domain.operation.services import CHANNEL
from lumtar.server.api.problems import problem

log = structlog.get_logger()
KEEP_ALIVE = 15.0
ENDED = '"topic":"sessions"'
"""Some session ended."""
MOST_WAITING = 100


class Hub:
    """Hands notifications out to whoever watches; a watcher that does not keep up misses some."""

    def __init__(self) -> None:
        self._watchers: set[asyncio.Queue[str]] = set()
        self._task: asyncio.Task[None] | None = None

    def watch(self) -> asyncio.Queue[str]:
        """A queue of what is announced from now on."""
        queue: asyncio.Queue[str] = asyncio.Queue(MOST_WAITING)
        self._watchers.add(queue)
        if self._task is None or self._task.done():
            self._task = asyncio.create_task(self._listen())
        return queue

    def leave(self, queue: asyncio.Queue[str]) -> None:
        """Watch no longer; the last one closes the connection."""
        self._watchers.discard(queue)
        if not self._watchers and self._task is not None:
            self._task.cancel()
            self._task = None

    def _tell(self, payload: str) -> None:
        for queue in self._watchers:
            if not queue.full():
                queue.put_nowait(payload)

    async def _listen(self) -> None:
        settings = connection.get_connection_params()
        wanted = {name: settings[name] for name in ("host", "port", "dbname", "user", "password") if settings.get(name)}
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(**wanted, autocommit=True) as listening:
                    await listening.execute(f"LISTEN {CHANNEL}")
                    # What was announced while nobody listened is not known: everything may have changed.
                    self._tell('{"topic":"everything"}')
                    async for notice in listening.notifies():
                        self._tell(notice.payload)
            except psycopg.OperationalError as error:
                log.warning("event stream lost the database", error=str(error))
                self._tell('{"topic":"health"}')
                await asyncio.sleep(2.0)


hub = Hub()


def stream(request: HttpRequest) -> HttpResponseBase:
    """Server-sent events: topics and ids, never contents. It ends with the session that opened it."""
    if not request.user.is_authenticated or request.session.session_key is None:
        return problem(401, "Sign in first.")
    answer = StreamingHttpResponse(
        _events(request.session.session_key, request.user.pk), content_type="text/event-stream"
    )
    answer["Cache-Control"] = "no-cache"
    answer["X-Accel-Buffering"] = "no"
    return answer


def _may_go_on(session: str, user: int) -> bool:
    """Whether the session is still there and its user may still sign in; while nobody can tell, it is."""
    try:
        close_old_connections()
        return (
            Session.objects.filter(session_key=session, expire_date__gt=timezone.now()).exists()
            and User.objects.filter(pk=user, is_active=True).exists()
        )
    except (DatabaseError, InterfaceError):
        return True
    finally:
        connection.close()


async def _events(session: str, user: int) -> AsyncIterator[str]:
    queue = hub.watch()
    looked = time.monotonic()
    try:
        yield "retry: 2000\n\n"
        while True:
            reason = ""
            with suppress(TimeoutError):
                async with asyncio.timeout(KEEP_ALIVE):
                    reason = await queue.get()
            # Somebody signed out or was signed out somewhere, or it is time to look again.
            if ENDED in reason or time.monotonic() - looked > KEEP_ALIVE:
                if not await asyncio.to_thread(_may_go_on, session, user):
                    return
                looked = time.monotonic()
            if ENDED not in reason:
                yield f"data: {reason}\n\n" if reason else ": still here\n\n"
    finally:
        hub.leave(queue)
