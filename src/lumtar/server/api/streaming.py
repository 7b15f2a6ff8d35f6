"""Answers that come line by line while the work goes on."""

from collections.abc import AsyncIterator, Iterator
from typing import Any

import orjson
from django.http import StreamingHttpResponse


class PromptResponse(StreamingHttpResponse):
    """A stream whose parts are sent as they come, not put together to larger ones."""


def json_lines(lines: AsyncIterator[Any] | Iterator[Any]) -> StreamingHttpResponse:
    """An answer of one JSON value a line (application/x-ndjson). The work stops when the reader goes away.

    Lines that the database is asked for have to come from a synchronous iterator: it is drawn in a thread of its own, which
    gives its connection back in the end.
    """
    content = _encoded_async(lines) if isinstance(lines, AsyncIterator) else _encoded(lines)
    answer = PromptResponse(content, content_type="application/x-ndjson")
    answer["Cache-Control"] = "no-cache"
    answer["X-Accel-Buffering"] = "no"
    return answer


async def _encoded_async(lines: AsyncIterator[Any]) -> AsyncIterator[bytes]:
    async for line in lines:
        yield orjson.dumps(line) + b"\n"


def _encoded(lines: Iterator[Any]) -> Iterator[bytes]:
    for line in lines:
        yield orjson.dumps(line) + b"\n"
