"""Getting devices in: trying one out, adding one, adding many, changing, retiring and deleting them."""

import asyncio
from collections.abc import AsyncIterator, Callable
from dataclasses import asdict
from datetime import datetime
from typing import Any, TypeVar

from asgiref.sync import sync_to_async
from django.db import connection
from django.http import HttpRequest, StreamingHttpResponse
from ninja import Schema, Status

from lumtar.core.devicelist import Line, check_address, check_port, decoded, read_list, written
from lumtar.domain.inventory import credentials, polling, queries, services
from lumtar.domain.inventory.models import Credential, Device, OwnField, PollRequest
from lumtar.engine.trying import Candidate, Outcome, Trial
from lumtar.server.api import fleet
from lumtar.server.api.problems import Problem
from lumtar.server.api.streaming import json_lines
from lumtar.wire.icmp import Pinger
from lumtar.wire.transport import Transport

router = fleet.router
AT_ONCE = 100
T = TypeVar("T")


class TrialIn(Schema):
    """Where to look. Without ``credentials`` those of the site are tried, in their order; one can be typed in as well."""

    address: str
    port: int = 161
    tcp_port: int | None = None
    site: str = ""
    credentials: list[int] | None = None
    kind: str = ""
    secret: dict[str, str] = {}


class NewDevice(Schema):
    """A device to add, with the number of a credential or with one that is typed in and never given back."""

    address: str
    port: int = 161
    name: str = ""
    site: str = ""
    way: str = "snmp"
    credential: int | None = None
    kind: str = "v2c"
    secret: dict[str, str] = {}
    interval_s: int = 60
    groups: list[str] = []
    tags: dict[str, str] = {}
    own: dict[str, str] = {}


class Added(Schema):
    """What was added."""

    id: int
    name: str


class DeviceChange(Schema):
    """What is to be changed of a device; what is left out stays. ``edition`` is that of the device as it was seen."""

    edition: int
    name: str | None = None
    address: str | None = None
    port: int | None = None
    site: str | None = None
    credential: int | None = None
    interval_s: int | None = None
    groups: list[str] | None = None
    tags: dict[str, str] | None = None
    own: dict[str, str] | None = None
    enabled: bool | None = None


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

    lines: list[LineIO]
    site: str = ""
    add: bool = True


def _candidates(found: list[Credential]) -> list[Candidate]:
    return [Candidate(credential.pk, credential.name, credentials.opened(credential)) for credential in found]


@router.post("/devices/try")
def try_device(request: HttpRequest, told: TrialIn) -> StreamingHttpResponse:
    """Look at an address: one line a step as it happens, then the outcome (application/x-ndjson)."""
    try:
        address, port = check_address(told.address), check_port(told.port)
        if told.tcp_port is not None:
            check_port(told.tcp_port)
        if told.credentials is None:
            stored = credentials.in_order(told.site)
        else:
            stored = list(Credential.objects.filter(pk__in=told.credentials))
        wanted = _candidates(stored)
        if told.kind and any(told.secret.values()):
            typed = Candidate(0, "the one typed in", credentials.open_secret(told.kind, told.secret))
            wanted.insert(0, typed)
    except ValueError as error:
        raise Problem(422, str(error)) from error
    there = Device.objects.filter(address=address, port=port).first()

    async def steps() -> AsyncIterator[dict[str, Any]]:
        transport, pinger = Transport(), Pinger()
        try:
            trial = Trial(transport, pinger)
            async for step in trial.run(address, port, wanted, told.tcp_port):
                yield {"step": asdict(step)}
            yield {"outcome": asdict(trial.outcome), "known": there.name if there else ""}
        finally:
            transport.close()
            pinger.close()

    return json_lines(steps())


@router.post("/devices", response={201: Added})
def add_device(request: HttpRequest, told: NewDevice) -> Status[Added]:
    """Add a device; its first poll follows within seconds and tells how it went."""
    stored = None
    if told.credential is not None:
        stored = Credential.objects.filter(pk=told.credential).first()
        if stored is None:
            raise Problem(422, "There is no such credential; it may have been deleted meanwhile.", "credential")
    try:
        device = services.add_device(
            **told.model_dump(exclude={"credential"}), credential=stored, by=request.user.get_username()
        )
    except ValueError as error:
        raise Problem(422, str(error)) from error
    return Status(201, Added(id=device.pk, name=device.name))


@router.patch("/devices/{int:device}", response=Added)
def change_device(request: HttpRequest, device: int, told: DeviceChange) -> Added:
    """Change a device; the collector follows within seconds."""
    wanted = told.model_dump(exclude_none=True, exclude={"edition"})
    try:
        found = services.change_device(device, told.edition, request.user.get_username(), **wanted)
    except ValueError as error:
        raise Problem(422, str(error)) from error
    return Added(id=found.pk, name=found.name)


@router.post("/devices/{int:device}/retire", response=Added)
def retire_device(request: HttpRequest, device: int) -> Added:
    """Poll it no more; its history stays."""
    return _done(lambda: services.retire(device, request.user.get_username()))


@router.post("/devices/{int:device}/restore", response=Added)
def restore_device(request: HttpRequest, device: int) -> Added:
    """Poll a retired one again."""
    return _done(lambda: services.restore(device, request.user.get_username()))


class PollAsked(Schema):
    """A poll that was asked for."""

    id: int


class ExchangeOut(Schema):
    """One request to the device, and what came back."""

    kind: str
    asked: int
    first: str
    answers: int
    took_ms: float
    fault: str


class ComputedOut(Schema):
    """What was computed of one port; None where there is nothing to compare with."""

    id: int
    label: str
    seconds: float
    in_bps: float | None
    out_bps: float | None
    words: str


class PollRecord(Schema):
    """What a poll did: each request, and what was computed."""

    took_ms: float
    fault: str
    exchanges: list[ExchangeOut]
    computed: list[ComputedOut]


class PollOut(Schema):
    """A poll that was asked for; without a record it is not done yet."""

    id: int
    asked_at: datetime
    asked_by: str
    done_at: datetime | None
    record: PollRecord | None


@router.post("/devices/{int:device}/polls", response={202: PollAsked})
def poll_now(request: HttpRequest, device: int) -> Status[PollAsked]:
    """Poll a device now; the answer is there as soon as the collector has done it."""
    try:
        asked = polling.ask(device, request.user.get_username())
    except ValueError as error:
        raise Problem(409, str(error)) from error
    return Status(202, PollAsked(id=asked.pk))


@router.get("/devices/{int:device}/polls/{int:poll}", response=PollOut)
def poll_record(request: HttpRequest, device: int, poll: int) -> PollOut:
    """What became of a poll that was asked for."""
    found = PollRequest.objects.get(pk=poll, device_id=device)
    record = PollRecord(**found.record) if found.done_at else None
    return PollOut(id=found.pk, asked_at=found.asked_at, asked_by=found.asked_by, done_at=found.done_at, record=record)


@router.delete("/devices/{int:device}", response={204: None})
def delete_device(request: HttpRequest, device: int) -> Status[None]:
    """Delete a retired device with its history."""
    try:
        services.delete(device, request.user.get_username())
    except ValueError as error:
        raise Problem(409, str(error)) from error
    return Status(204, None)


def _done(work: Callable[[], Device]) -> Added:
    try:
        found = work()
    except ValueError as error:
        raise Problem(409, str(error)) from error
    return Added(id=found.pk, name=found.name)


@router.post("/devices/list", response=ListOut)
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


@router.post("/devices/list/add")
def add_list(request: HttpRequest, told: ListIn) -> StreamingHttpResponse:
    """Try lines side by side and add those that answer: one line a result (application/x-ndjson)."""
    by = request.user.get_username()
    stored = {credential.name: credential for credential in Credential.objects.all()}
    opened = {candidate.number: candidate for candidate in _candidates(list(stored.values()))}
    order = {
        site: [opened[credential.pk] for credential in credentials.in_order(site)]
        for site in {line.site or told.site for line in told.lines}
    }

    there = queries.places(line.address for line in told.lines)

    async def one(line: LineIO, transport: Transport, pinger: Pinger, room: asyncio.Semaphore) -> dict[str, Any]:
        if known := there.get(line.place):
            return {"number": line.number, "went": "known", "words": f"is there already as {known}", "name": known}
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


@router.get("/devices.csv")
def export_devices(request: HttpRequest) -> StreamingHttpResponse:
    """All devices as the list that adding takes."""
    own = list(OwnField.objects.values_list("name", flat=True))
    lines = [Line(number, **row) for number, row in enumerate(queries.device_lines(), 1)]
    answer = StreamingHttpResponse(written(lines, own), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = 'attachment; filename="devices.csv"'
    return answer
