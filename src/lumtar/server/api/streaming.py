"""Answers that come line by line while the work goes on."""

from collections.abc import AsyncIterator
from typing import Any

import orjson
from django.db import connection
from django.http import StreamingHttpResponse


def json_lines(lines: AsyncIterator[Any]) -> StreamingHttpResponse:
    """An answer of one JSON value a line (application/x-ndjson). The work stops when the reader goes away.

    A stream can last for minutes; the connection to the database that its view used must not wait that long.
    """

    async def encoded() -> AsyncIterator[bytes]:
        async for line in lines:
            yield orjson.dumps(line) + b"\n"

    connection.close()
    answer = StreamingHttpResponse(encoded(), content_type="application/x-ndjson")
    answer["Cache-Control"] = "no-cache"
    answer["X-Accel-Buffering"] = "no"
    return answer
