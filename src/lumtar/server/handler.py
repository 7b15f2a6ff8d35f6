"""How a request passes through: from begin to end in one thread, streams piece by piece.

Django's own way through the event loop hops between threads for every signal, middleware and view; all these hops cost more
than most views.
"""

import asyncio
from collections.abc import AsyncGenerator, AsyncIterator, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import IO, Any

from django.core import signals
from django.core.exceptions import RequestAborted
from django.core.handlers.asgi import ASGIHandler, get_script_prefix
from django.db import connections
from django.http.response import HttpResponseBase, StreamingHttpResponse
from django.urls import set_script_prefix

THREADS = 40
PIECE = 1 << 16
"""Octets of a stream that are put together at once, at least."""


class Handler(ASGIHandler):
    """Django's synchronous handler behind ASGI."""

    def __init__(self) -> None:
        self.load_middleware(is_async=False)
        self._threads = ThreadPoolExecutor(THREADS, "request")

    async def handle(self, scope: Any, receive: Any, send: Any) -> None:
        """Answer one request."""
        try:
            body = await self.read_body(receive)
        except RequestAborted:
            return
        with body:
            response = await _in(self._threads, self._respond, scope, body)
            if isinstance(response, StreamingHttpResponse):
                await self._stream(response, receive, send)
            else:
                await self.send_response(response, send)

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
                response.streaming_content = _pieces(source, thread)
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


async def _pieces(parts: Iterator[bytes], thread: ThreadPoolExecutor) -> AsyncIterator[bytes]:
    """Draw a stream in a thread: what asks the database has to stay with its connection."""
    while piece := await _in(thread, _piece, parts):
        yield piece


def _piece(parts: Iterator[bytes]) -> bytes:
    held, size = [], 0
    for part in parts:
        held.append(part)
        size += len(part)
        if size >= PIECE:
            break
    return b"".join(held)
