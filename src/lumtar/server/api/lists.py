"""Lists of devices: understood, tried side by side, added, and given back."""

import asyncio
from collections.abc import AsyncIterator, Callable
from dataclasses import asdict
from typing import Any, TypeVar

from asgiref.sync import sync_to_async
from django.db import connection
from django.http import HttpRequest, StreamingHttpResponse
from ninja import Field

from lumtar.core.devicelist import (
    MOST_LINES,
    Line,
    check_address,
    check_interval,
    check_port,
    decoded,
    read_list,
    written,
)
from lumtar.domain.inventory import credentials, queries, services
from lumtar.domain.inventory.models import Credential, OwnField
from lumtar.engine.trying import Outcome, Trial
from lumtar.server.api.access import ENGINEER, Router
from lumtar.server.api.adding import candidates
from lumtar.server.api.schema import Schema
from lumtar.server.api.streaming import json_lines
from lumtar.wire.icmp import Pinger
from lumtar.wire.transport import Transport

router = Router(tags=["adding"])
AT_ONCE = 100
T = TypeVar("T")


class LineIO(Schema):
    """One line of a list of devices. ``known`` names the device that is there already."""

    number: int
    address: str
    port: int = 161
    name: str = ""
    site: str = ""
    groups: list[str] = []
    tags: dict[str, str] = {}
    credential: str = ""
    interval: int = 60
    way: str = "snmp"
    own: dict[str, str] = {}
    problem: str = ""
    known: str = ""

    @property
    def place(self) -> tuple[str, int, str]:
        """What makes it one device: address, port (none for an echo), way."""
        return self.address, 0 if self.way == "icmp" else self.port, self.way


class ListOut(Schema):
    """A list as it was understood."""

    lines: list[LineIO]
    columns: list[str]
    problem: str


class ListIn(Schema):
    """Lines to try and, if wanted, to add as they answer. ``site`` is for those that name none."""

    lines: list[LineIO] = Field(max_length=MOST_LINES)
    site: str = ""
    add: bool = True


@router.post("/devices/list", needs=ENGINEER.whole, response=ListOut)
def understand_list(request: HttpRequest) -> ListOut:
    """Understand a list: the body is the text itself, addresses or CSV, in UTF-8, UTF-16 or Latin-1."""
    own = list(OwnField.objects.values_list("name", flat=True))
    names = Credential.objects.values_list("name", flat=True)
    listed = read_list(decoded(request.body), own, {"credential": list(names)})
    there = queries.places(line.address for line in listed.lines)
    lines = []
    for line in listed.lines:
        understood = LineIO(**asdict(line))
        understood.known = there.get(understood.place, "")
        lines.append(understood)
    return ListOut(lines=lines, columns=listed.columns, problem=listed.problem)


@router.post("/devices/list/add", needs=ENGINEER.whole)
def add_list(request: HttpRequest, told: ListIn) -> StreamingHttpResponse:
    """Try lines side by side and add those that answer: one line a result (application/x-ndjson)."""
    by = request.user.get_username()
    stored = {credential.name: credential for credential in Credential.objects.all()}
    opened = {candidate.number: candidate for candidate in candidates(list(stored.values()))}
    order = {
        site: [opened[credential.pk] for credential in credentials.in_order(site)]
        for site in {line.site or told.site for line in told.lines}
    }

    there = queries.places(line.address for line in told.lines)

    async def one(line: LineIO, transport: Transport, pinger: Pinger, room: asyncio.Semaphore) -> dict[str, Any]:
        if known := there.get(line.place):
            return {"number": line.number, "went": "known", "words": f"is there already as {known}", "name": known}
        try:
            check_address(line.address)
            check_port(line.port)
            check_interval(line.interval)
        except ValueError as error:
            return {"number": line.number, "went": "wrong", "words": str(error)}
        async with room:
            named = stored.get(line.credential)
            wanted = [opened[named.pk]] if named else order[line.site or told.site]
            trial = Trial(transport, pinger, is_brief=True)
            steps = [
                step
                async for step in trial.run(
                    line.address,
                    line.port if line.way == "snmp" else 161,
                    wanted if line.way == "snmp" else [],
                    line.port if line.way == "tcp" else None,
                )
            ]
            outcome = trial.outcome
            if line.way not in outcome.ways:
                words = _why_not(line.way, outcome, [step.words for step in steps if step.went == "wrong"])
                return {"number": line.number, "went": "wrong", "words": words}
            told_name = f"answers{f' to {outcome.credential_name}' if outcome.credential_name else ''}"
            if not told.add:
                return {"number": line.number, "went": "answers", "words": told_name, "name": outcome.name}
            return await sync_to_async(_connected)(lambda: _add(line, told.site, outcome, by))

    async def results() -> AsyncIterator[dict[str, Any]]:
        transport, pinger, room = Transport(), Pinger(), asyncio.Semaphore(AT_ONCE)
        tasks = [asyncio.create_task(one(line, transport, pinger, room)) for line in told.lines]
        try:
            for finished in asyncio.as_completed(tasks):
                yield await finished
        finally:
            for task in tasks:
                task.cancel()
            transport.close()
            pinger.close()

    return json_lines(results())


def _connected(work: Callable[[], T]) -> T:
    try:
        return work()
    finally:
        connection.close()


def _why_not(way: str, outcome: Outcome, wrong: list[str]) -> str:
    """In one sentence, why a line could not be added as it stands."""
    reasons = "; ".join(dict.fromkeys(wrong)) or "no credential was tried"
    if way == "snmp" and outcome.ways:
        return f"answers {' and '.join(outcome.ways).upper()}, not SNMP: {reasons}"
    return reasons


def _add(line: LineIO, site: str, outcome: Outcome, by: str) -> dict[str, Any]:
    told: dict[str, Any] = {"number": line.number}
    try:
        device = services.add_device(
            line.address,
            port=line.port,
            name=line.name or outcome.name,
            site=line.site or site,
            way=line.way,
            credential=Credential.objects.filter(pk=outcome.credential or 0).first(),
            interval_s=line.interval,
            groups=line.groups,
            tags=line.tags,
            own=line.own,
            by=by,
        )
    except ValueError as error:
        return {**told, "went": "wrong", "words": str(error)}
    return {**told, "went": "added", "words": f"added as {device.name}", "device": device.pk, "name": device.name}


@router.get("/devices.csv", needs=ENGINEER.whole)
def export_devices(request: HttpRequest) -> StreamingHttpResponse:
    """All devices as the list that adding takes."""
    own = list(OwnField.objects.values_list("name", flat=True))
    lines = [Line(number, **row) for number, row in enumerate(queries.device_lines(), 1)]
    answer = StreamingHttpResponse(written(lines, own), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = 'attachment; filename="devices.csv"'
    return answer
