"""Answers that come line by line while the work goes on."""

from collections.abc import AsyncIterator
from typing import Any

import orjson
from django.http import StreamingHttpResponse


def json_lines(lines: AsyncIterator[Any]) -> StreamingHttpResponse:
    """An answer of one JSON value a line (application/x-ndjson). The work stops when the reader goes away."""

    async def encoded() -> AsyncIterator[bytes]:
        async for line in lines:
            yield orjson.dumps(line) + b"\n"

    answer = StreamingHttpResponse(encoded(), content_type="application/x-ndjson")
    answer["Cache-Control"] = "no-cache"
    answer["X-Accel-Buffering"] = "no"
    return answer
