"""Trying a device out before it is added."""

from collections.abc import AsyncIterator
from typing import Any

from django.http import HttpRequest, StreamingHttpResponse

from lumtar.core.devicelist import check_address, check_port
from lumtar.domain.inventory import credentials
from lumtar.domain.inventory.models import Device
from lumtar.server import limiting
from lumtar.server.api.access import ENGINEER, Router
from lumtar.server.api.errands import done_by_a_collector
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.streaming import json_lines

router = Router(tags=["adding"])


class TrialIn(Schema):
    """Where to look. Without ``credentials`` those of the site are tried, in their order; one can be typed in as well."""

    address: str
    port: int = 161
    tcp_port: int | None = None
    site: str = ""
    credentials: list[int] | None = None
    kind: str = ""
    secret: dict[str, str] = {}


@router.post("/devices/try", needs=ENGINEER.everywhere)
def try_device(request: HttpRequest, body: TrialIn) -> StreamingHttpResponse:
    """Look at an address: one line a step as it happens, then the outcome (application/x-ndjson)."""
    limiting.TRIES.take(request.user.get_username())
    limiting.TRIES.take()
    with refusing():
        address, port = check_address(body.address), check_port(body.port)
        if body.tcp_port is not None:
            check_port(body.tcp_port)
        if body.credentials is None:
            stored = [credential.pk for credential in credentials.in_order(body.site)]
        else:
            stored = list(body.credentials)
        typed: dict[str, Any] = {}
        if body.kind and any(body.secret.values()):
            credentials.open_secret(body.kind, body.secret)
            typed = {"kind": body.kind, "secret": body.secret}
    there = Device.objects.filter(address=address, port=port).first()
    wanted = {"address": address, "port": port, "tcp_port": body.tcp_port, "credentials": stored, **typed}

    async def steps() -> AsyncIterator[dict[str, Any]]:
        limiting.TRYING.take()
        try:
            async for line in done_by_a_collector("try", wanted):
                yield {**line, "known": there.name if there else ""} if "outcome" in line else line
        finally:
            limiting.TRYING.leave()

    return json_lines(steps())
