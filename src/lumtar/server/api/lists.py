"""Lists of devices: understood, tried side by side, added, and given back."""

from collections.abc import AsyncIterator
from dataclasses import asdict
from typing import Any
from uuid import UUID

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
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory import credentials, queries, services
from lumtar.domain.inventory.models import Credential, OwnField
from lumtar.engine.errands import ask_database
from lumtar.engine.trial import Outcome
from lumtar.server.api.access import ENGINEER, Router
from lumtar.server.api.errands import done_by_a_collector
from lumtar.server.api.schema import Schema
from lumtar.server.api.streaming import json_lines
from lumtar.server.database import actor
from lumtar.server.database.actor import Actor

router = Router(tags=["adding"])


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


@router.post("/devices/list", needs=ENGINEER.everywhere, response=ListOut)
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


@router.post("/devices/list/add", needs=ENGINEER.everywhere)
def add_list(request: HttpRequest, body: ListIn) -> StreamingHttpResponse:
    """Try lines side by side and add those that answer: one line a result (application/x-ndjson)."""
    by = request.user.get_username()
    audit: UUID = request.audit  # type: ignore[attr-defined]
    stored = {credential.name: credential.pk for credential in Credential.objects.all()}
    order = {
        site: [credential.pk for credential in credentials.in_order(site)]
        for site in {line.site or body.site for line in body.lines}
    }
    there = queries.places(line.address for line in body.lines)

    def refused(line: LineIO) -> dict[str, Any] | None:
        """What is to be said of a line without looking at its device."""
        if known := there.get(line.place):
            return {"number": line.number, "went": "known", "words": f"is there already as {known}", "name": known}
        try:
            check_address(line.address)
            check_port(line.port)
            check_interval(line.interval)
        except Refusal as error:
            return {"number": line.number, "went": "wrong", "words": str(error)}
        return None

    def place(key: int, line: LineIO) -> dict[str, Any]:
        named = stored.get(line.credential)
        mine = [named] if named else order[line.site or body.site]
        return {
            "key": key,
            "address": line.address,
            "port": line.port if line.way == "snmp" else 161,
            "credentials": mine if line.way == "snmp" else [],
            "tcp_port": line.port if line.way == "tcp" else None,
        }

    async def result(line: LineIO, tried: dict[str, Any]) -> dict[str, Any]:
        outcome = Outcome(**tried["outcome"])
        if line.way not in outcome.ways:
            return {"number": line.number, "went": "wrong", "words": _why_not(line.way, outcome, tried["wrong"])}
        if not body.add:
            words = f"answers{f' to {outcome.credential_name}' if outcome.credential_name else ''}"
            return {"number": line.number, "went": "answers", "words": words, "name": outcome.name}
        return await ask_database(lambda: _add(line, body.site, outcome, by, audit))

    async def results() -> AsyncIterator[dict[str, Any]]:
        open_lines = {}
        for key, line in enumerate(body.lines):
            if said := refused(line):
                yield said
            else:
                open_lines[key] = line
        if not open_lines:
            return
        places = [place(key, line) for key, line in open_lines.items()]
        every = sorted({number for each in places for number in each["credentials"]})
        async for outcome in done_by_a_collector("tries", {"places": places, "credentials": every}):
            yield await result(open_lines[outcome["key"]], outcome)

    return json_lines(results())


def _why_not(way: str, outcome: Outcome, wrong: list[str]) -> str:
    """In one sentence, why a line could not be added as it stands."""
    reasons = "; ".join(dict.fromkeys(wrong)) or "no credential was tried"
    if way == "snmp" and outcome.ways:
        return f"answers {' and '.join(outcome.ways).upper()}, not SNMP: {reasons}"
    return reasons


def _add(line: LineIO, site: str, outcome: Outcome, by: str, audit: UUID) -> dict[str, Any]:
    """Add what answered; the request that asked for it is over, but it is still this person's doing."""
    actor.begin(Actor(by, audit))
    try:
        return _added(line, site, outcome, by)
    finally:
        actor.end()


def _added(line: LineIO, site: str, outcome: Outcome, by: str) -> dict[str, Any]:
    line_out: dict[str, Any] = {"number": line.number}
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
    except Refusal as error:
        return {**line_out, "went": "wrong", "words": str(error)}
    return {**line_out, "went": "added", "words": f"added as {device.name}", "device": device.pk, "name": device.name}


@router.get("/devices.csv", needs=ENGINEER.everywhere)
def export_devices(request: HttpRequest) -> StreamingHttpResponse:
    """All devices as the list that adding takes."""
    own = list(OwnField.objects.values_list("name", flat=True))
    lines = [Line(number, **row) for number, row in enumerate(queries.device_lines(), 1)]
    answer = StreamingHttpResponse(written(lines, own), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = 'attachment; filename="devices.csv"'
    return answer
