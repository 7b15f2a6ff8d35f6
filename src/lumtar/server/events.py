"""The event stream: one listening connection a web process, shared by everybody who watches."""

import asyncio
from collections.abc import AsyncIterator

import psycopg
import structlog
from django.db import connection
from django.http import HttpRequest, HttpResponseBase, StreamingHttpResponse

from lumtar.domain.operation.services import CHANNEL
from lumtar.server.api.problems import problem

log = structlog.get_logger()
KEEP_ALIVE = 15.0
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
    """Server-sent events: topics and ids, never contents."""
    if not request.user.is_authenticated:
        return problem(401, "Sign in first.")
    answer = StreamingHttpResponse(_events(), content_type="text/event-stream")
    answer["Cache-Control"] = "no-cache"
    answer["X-Accel-Buffering"] = "no"
    return answer


async def _events() -> AsyncIterator[str]:
    queue = hub.watch()
    try:
        yield "retry: 2000\n\n"
        while True:
            try:
                async with asyncio.timeout(KEEP_ALIVE):
                    told = await queue.get()
                yield f"data: {told}\n\n"
            except TimeoutError:
                yield ": still here\n\n"
    finally:
        hub.leave(queue)
