"""What a collector does on an errand: trying devices out, reading one object. A registry; each yields lines of JSON."""

import asyncio
from collections.abc import AsyncIterator, Callable
from dataclasses import asdict
from typing import Any, TypeVar

from django.db import connection

from lumtar.core.profiles import Recognition
from lumtar.domain.inventory import credentials, profiles
from lumtar.domain.inventory.models import Credential
from lumtar.engine.collector.device_tests import read_tests
from lumtar.engine.controllers import tried
from lumtar.engine.object_reading import read_instances
from lumtar.engine.object_setting import set_object
from lumtar.engine.trial import Candidate, Trial
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.icmp import Pinger
from lumtar.wire.session import Patience
from lumtar.wire.transport import Transport, resolve

T = TypeVar("T")
AT_ONCE = 100
"""Devices of a list that are tried side by side."""
Message = dict[str, Any]


async def ask_database(work: Callable[[], T]) -> T:
    """Do something with the database in a thread, and keep no connection there: it would be a dead one once the
    database has been away.
    """

    def connected() -> T:
        try:
            return work()
        finally:
            connection.close()

    return await asyncio.to_thread(connected)


def _candidates(message: Message) -> list[Candidate]:
    """The stored credentials that are meant, in their order, behind the one that was typed in."""
    stored = Credential.objects.in_bulk(message.get("credentials", []))
    candidates = [
        Candidate(each.pk, each.name, credentials.opened(each), each.ranges)
        for number in message.get("credentials", [])
        if (each := stored.get(number))
    ]
    if message.get("kind"):
        candidates.insert(
            0, Candidate(0, "the one typed in", credentials.open_secret(message["kind"], message["secret"]))
        )
    return candidates


def _prepare(message: Message) -> tuple[list[Candidate], list[Recognition]]:
    return _candidates(message), profiles.recognitions()


async def try_one(message: Message) -> AsyncIterator[Message]:
    """Look at an address: each step as it happens, then the outcome."""
    wanted, known = await ask_database(lambda: _prepare(message))
    transport, pinger = Transport(), Pinger()
    try:
        trial = Trial(transport, pinger, profiles=known)
        async for step in trial.run(message["address"], message["port"], wanted, message.get("tcp_port")):
            yield {"step": asdict(step)}
        yield {"outcome": asdict(trial.outcome)}
    finally:
        transport.close()
        pinger.close()


async def try_many(message: Message) -> AsyncIterator[Message]:
    """Look at many addresses briefly, side by side: one line each, with its key, what went wrong, and the outcome."""
    transport, pinger, room = Transport(), Pinger(), asyncio.Semaphore(AT_ONCE)
    every = await ask_database(lambda: _candidates({"credentials": message["credentials"]}))
    by_number = {candidate.number: candidate for candidate in every}

    async def one(each: Message) -> Message:
        async with room:
            trial = Trial(transport, pinger, is_brief=True)
            wanted = [by_number[number] for number in each["credentials"] if number in by_number]
            steps = [step async for step in trial.run(each["address"], each["port"], wanted, each.get("tcp_port"))]
            wrong = [step.words for step in steps if step.went == "wrong"]
            return {"key": each["key"], "wrong": wrong, "outcome": asdict(trial.outcome)}

    tasks = [asyncio.create_task(one(each)) for each in message["places"]]
    try:
        for finished in asyncio.as_completed(tasks):
            yield await finished
    finally:
        for task in tasks:
            task.cancel()
        transport.close()
        pinger.close()


async def read_object(message: Message) -> AsyncIterator[Message]:
    """Read one object of a device."""
    (candidate,) = await ask_database(lambda: _candidates(message))
    yield asdict(await read_instances(message["address"], message["port"], candidate, message["oid"]))


async def list_tests(message: Message) -> AsyncIterator[Message]:
    """The tests that a device makes itself."""
    candidates = await ask_database(lambda: _candidates(message))
    transport = Transport()
    try:
        if not candidates:
            raise Fault(FaultKind.CREDENTIAL, "its credential has been deleted meanwhile")
        family, place = await asyncio.to_thread(resolve, message["address"], message["port"])
        session = candidates[0].session(transport, family, place, Patience(2.0, 2))
        yield {"tests": [asdict(each) for each in await read_tests(session)], "fault": ""}
    except Fault as fault:
        yield {"tests": [], "fault": fault.words}
    finally:
        transport.close()


async def set_one(message: Message) -> AsyncIterator[Message]:
    """Set one object of a device, and read it back."""
    wanted = await ask_database(lambda: _candidates(message))
    done = await set_object(
        message["address"],
        message["port"],
        wanted,
        message["oid"],
        message["wanted"],
        is_read=message["is_read"],
    )
    yield asdict(done)


ERRANDS: dict[str, Callable[[Message], AsyncIterator[Message]]] = {
    "try": try_one,
    "tries": try_many,
    "object": read_object,
    "set": set_one,
    "tests": list_tests,
    "controller": tried,
}
"""By kind, what is done."""
