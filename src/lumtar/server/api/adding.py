"""Trying a device out before it is added."""

from collections.abc import AsyncIterator
from dataclasses import asdict
from typing import Any

from django.http import HttpRequest, StreamingHttpResponse

from lumtar.core.devicelist import check_address, check_port
from lumtar.domain.inventory import credentials, profiles
from lumtar.domain.inventory.models import Credential, Device
from lumtar.engine.trying import Candidate, Trial
from lumtar.server import limiting
from lumtar.server.api.access import ENGINEER, Router
from lumtar.server.api.problems import Problem
from lumtar.server.api.schema import Schema
from lumtar.server.api.streaming import json_lines
from lumtar.wire.icmp import Pinger
from lumtar.wire.transport import Transport

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


def candidates(found: list[Credential]) -> list[Candidate]:
    """Stored credentials, opened to be tried."""
    return [
        Candidate(credential.pk, credential.name, credentials.opened(credential), credential.ranges)
        for credential in found
    ]


@router.post("/devices/try", needs=ENGINEER.whole)
def try_device(request: HttpRequest, told: TrialIn) -> StreamingHttpResponse:
    """Look at an address: one line a step as it happens, then the outcome (application/x-ndjson)."""
    limiting.TRIES.take(request.user.get_username())
    limiting.TRIES.take()
    try:
        address, port = check_address(told.address), check_port(told.port)
        if told.tcp_port is not None:
            check_port(told.tcp_port)
        if told.credentials is None:
            stored = credentials.in_order(told.site)
        else:
            stored = list(Credential.objects.filter(pk__in=told.credentials))
        wanted = candidates(stored)
        if told.kind and any(told.secret.values()):
            typed = Candidate(0, "the one typed in", credentials.open_secret(told.kind, told.secret))
            wanted.insert(0, typed)
    except ValueError as error:
        raise Problem(422, str(error)) from error
    there = Device.objects.filter(address=address, port=port).first()
    known = profiles.recognitions()

    async def steps() -> AsyncIterator[dict[str, Any]]:
        transport, pinger = Transport(), Pinger()
        try:
            trial = Trial(transport, pinger, profiles=known)
            async for step in trial.run(address, port, wanted, told.tcp_port):
                yield {"step": asdict(step)}
            yield {"outcome": asdict(trial.outcome), "known": there.name if there else ""}
        finally:
            transport.close()
            pinger.close()

    return json_lines(steps())
