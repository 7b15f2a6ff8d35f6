"""How a request passes through: from begin to end in one thread, streams piece by piece.

Django's own way through the event loop hops between threads for every signal, middleware and view; all these hops cost more
than most views.
"""

import asyncio
import io
from collections.abc import AsyncGenerator, AsyncIterator, Iterator
from concurrent.futures import ThreadPoolExecutor
from tempfile import SpooledTemporaryFile
from typing import IO, Any

from django.conf import settings
from django.core import signals
from django.core.exceptions import RequestAborted
from django.core.handlers.asgi import ASGIHandler, get_script_prefix
from django.db import DatabaseError, InterfaceError, connections
from django.http.response import HttpResponseBase, StreamingHttpResponse
from django.urls import set_script_prefix

from lumtar.server.api.problems import problem
from lumtar.server.api.streaming import PromptResponse
from lumtar.server.recognising import is_somebody

THREADS = 40
SIGN_IN = "/api/v1/session"
UPLOADS = (
    "/api/v1/import/readings",
    "/api/v1/prefixtables/systems/file",
    "/api/v1/prefixtables/places/file",
)
"""Where more is taken than what an ordinary request holds."""
LARGEST_UPLOAD = 65 << 20
SMALL = 64 << 10
"""Octets that are taken from anybody, and without an announcement."""
PATIENCE_S = 30.0
"""Seconds without any part of a body after which it is given up."""


class _TooLarge(Exception):
    """More than is taken."""

    def __init__(self, most: int) -> None:
        super().__init__()
        self.most = most


PIECE = 1 << 16
"""Octets of a stream that are put together at once, at least."""


class Handler(ASGIHandler):
    """Django's synchronous handler behind ASGI."""

    def __init__(self) -> None:
        self.load_middleware(is_async=False)
        self._threads = ThreadPoolExecutor(THREADS, "request")

    async def handle(self, scope: Any, receive: Any, send: Any) -> None:
        """Answer one request."""
        most = LARGEST_UPLOAD if scope["path"] in UPLOADS else settings.DATA_UPLOAD_MAX_MEMORY_SIZE
        try:
            if self._told_size(scope) > SMALL and scope["path"] != SIGN_IN:
                # Before more than a little is taken in, it has to be somebody's.
                refused = await _in(self._threads, self._refused, scope)
                if refused is not None:
                    await self.send_response(refused, send)
                    return
                most_of_it = most
            else:
                most_of_it = SMALL
            body = await self._read(receive, most_of_it)
        except RequestAborted:
            return
        except _TooLarge as error:
            words = f"That is too much at once: at most {error.most >> 20 or 1} MiB are taken."
            if error.most == SMALL:
                words = "Say how long it is (Content-Length): without that only little is taken."
            await self.send_response(problem(413, words), send)
            return
        with body:
            response = await _in(self._threads, self._respond, scope, body)
            if isinstance(response, StreamingHttpResponse):
                await self._stream(response, receive, send)
            else:
                await self.send_response(response, send)

    @staticmethod
    def _told_size(scope: Any) -> int:
        """The length of the body as it was announced; 0 if it was not."""
        size = next((value for name, value in scope["headers"] if name == b"content-length"), b"0")
        return int(size) if size.isdigit() and len(size) < 16 else 0

    @staticmethod
    async def _read(receive: Any, most: int) -> IO[bytes]:
        """The body, in a file that lies on the disk once it is large.

        Raises
        ------
        RequestAborted, _TooLarge
        """
        body = SpooledTemporaryFile(max_size=settings.FILE_UPLOAD_MAX_MEMORY_SIZE, mode="w+b")  # noqa: SIM115
        size = 0
        try:
            while True:
                async with asyncio.timeout(PATIENCE_S):
                    message = await receive()
                if message["type"] == "http.disconnect":
                    raise RequestAborted
                part = message.get("body", b"")
                size += len(part)
                if size > most:
                    raise _TooLarge(most)
                body.write(part)
                if not message.get("more_body", False):
                    break
        except TimeoutError:
            body.close()
            raise RequestAborted from None
        except BaseException:
            body.close()
            raise
        body.seek(0)
        return body

    def _refused(self, scope: Any) -> HttpResponseBase | None:
        """What a caller is told who wants to send much and is nobody; None for whoever is somebody."""
        with io.BytesIO() as nothing:
            request, response = self.create_request(scope, nothing)
        if request is None:
            return response
        try:
            return None if is_somebody(request) else problem(401, "Sign in, or send a token as Authorization: Bearer.")
        except (DatabaseError, InterfaceError):
            return problem(503, "The database cannot be reached. Readings wait in the collector until it is back.")
        finally:
            connections.close_all()

    def _respond(self, scope: Any, body: IO[bytes]) -> HttpResponseBase:
        """The answer; what was used for it is given back already, but for the source of a stream."""
        set_script_prefix(get_script_prefix(scope))
        signals.request_started.send(sender=self.__class__, scope=scope)
        request, response = self.create_request(scope, body)
        if request is not None:
            response = self.get_response(request)
        assert response is not None
        # Whoever hears that a request is over is told by whom it was answered.
        response._handler_class = self.__class__  # type: ignore[attr-defined]
        if response.streaming:
            # It may last for hours, and must not hold a connection all that time.
            connections.close_all()
        else:
            response.close()
        return response

    async def _stream(self, response: StreamingHttpResponse, receive: Any, send: Any) -> None:
        """Send what comes, until it ends or the reader goes away."""
        with ThreadPoolExecutor(1, "stream") as thread:
            source = response.streaming_content
            if isinstance(source, Iterator):
                size = 1 if isinstance(response, PromptResponse) else PIECE
                response.streaming_content = _pieces(source, thread, size)
            sending = asyncio.create_task(self.send_response(response, send))
            leaving = asyncio.create_task(self.listen_for_disconnect(receive))
            try:
                await asyncio.wait([sending, leaving], return_when=asyncio.FIRST_COMPLETED)
            finally:
                for task in (sending, leaving):
                    task.cancel()
                ends = await asyncio.gather(sending, leaving, return_exceptions=True)
                # Django ends a source of its own accord only if it is a synchronous one.
                if isinstance(inmost := response._iterator, AsyncGenerator):  # type: ignore[attr-defined]
                    await inmost.aclose()
                await _in(thread, response.close)
        if isinstance(ends[0], Exception):
            raise ends[0]


async def _in(threads: ThreadPoolExecutor, work: Any, *words: Any) -> Any:
    return await asyncio.get_running_loop().run_in_executor(threads, work, *words)


async def _pieces(parts: Iterator[bytes], thread: ThreadPoolExecutor, least: int) -> AsyncIterator[bytes]:
    """Draw a stream in a thread: what asks the database has to stay with its connection."""
    while piece := await _in(thread, _piece, parts, least):
        yield piece


def _piece(parts: Iterator[bytes], least: int) -> bytes:
    held, size = [], 0
    for part in parts:
        held.append(part)
        size += len(part)
        if size >= least:
            break
    return b"".join(held)
