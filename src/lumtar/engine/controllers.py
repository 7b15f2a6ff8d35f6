"""Asking controllers, each as often as it is set to, and once for somebody who tries a profile."""

import asyncio
from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import structlog
from django.utils import timezone

from lumtar.core.controllers import KINDS, Listing, SignIn, Told
from lumtar.domain.controllers import answers, services
from lumtar.domain.controllers.answers import Answer
from lumtar.domain.controllers.models import Controller
from lumtar.domain.operation.secrets import SecretUnreadable
from lumtar.engine.service import AWAY, with_database
from lumtar.wire.faults import Fault
from lumtar.wire.rest import Rest

log = structlog.get_logger()
LOOK_S = 2.0
AT_ONCE = 8
"""Controllers that are asked side by side."""
PATIENCE_S = 120.0
"""Seconds within which all lists of one have to be there."""
SHOWN = 20
"""Rows of a list that are shown to whoever tries it."""


@dataclass(frozen=True, slots=True)
class Due:
    """A controller that is to be asked, with all that is needed for it; ``problem`` if it cannot be."""

    number: int
    base: str
    sign_in: SignIn
    secret: Mapping[str, str]
    authority: str
    lists: Mapping[str, Listing]
    problem: str = ""


def due(now: datetime) -> list[Due]:
    """The controllers that are to be asked by now."""
    rows = Controller.objects.filter(enabled=True).select_related("profile").order_by("asked_at")
    return [
        _due(row) for row in rows if row.asked_at is None or now - row.asked_at >= timedelta(seconds=row.every_s)
    ]  # fmt: skip


def _due(row: Controller) -> Due:
    secret, problem = {}, ""
    try:
        secret = services.secret_of(row)
        services.check_secret(row.profile.sign_in.get("way", "none"), secret)
    except (SecretUnreadable, ValueError) as error:
        problem = str(error)
    return Due(
        row.pk, row.base, services.sign_in_of(row.profile), secret, row.authority, services.lists_of(row.profile), problem
    )  # fmt: skip


async def read(wanted: Due) -> AsyncIterator[tuple[str, Told | Fault]]:
    """The lists of a controller, one after another: what it told, or why that could not be read.

    Raises
    ------
    Fault
        if nothing can be asked at all
    """
    async with Rest(wanted.base, wanted.sign_in, wanted.secret, wanted.authority) as controller:
        await controller.sign_in()
        for name, listing in wanted.lists.items():
            try:
                yield name, await controller.read(KINDS[name], listing)
            except Fault as fault:
                yield name, fault


async def ask(wanted: Due) -> Answer:
    """Everything that a controller tells; what goes wrong is in the answer."""
    answer = Answer(problem=wanted.problem)
    if answer.problem:
        return answer
    try:
        async with asyncio.timeout(PATIENCE_S):
            async for name, told in read(wanted):
                if isinstance(told, Fault):
                    answer.faults[name] = told.words
                else:
                    answer.lists[name] = told
    except Fault as fault:
        answer.problem = fault.words
    except TimeoutError:
        answer.problem = f"its lists were not there within {PATIENCE_S:.0f} s"
    if not answer.lists and not answer.problem:
        answer.problem = "; ".join(dict.fromkeys(answer.faults.values())) or "it was asked for nothing"
    return answer


class Controllers:
    """Asks controllers until cancelled."""

    async def run(self) -> None:
        """Work until cancelled."""
        room = asyncio.Semaphore(AT_ONCE)
        asking: dict[int, asyncio.Task[None]] = {}

        def forget(task: asyncio.Task[None]) -> None:
            for number in [each for each, mine in asking.items() if mine is task]:
                del asking[number]

        try:
            while True:
                for wanted in await asyncio.to_thread(with_database, lambda: due(timezone.now())):
                    if wanted.number not in asking:
                        task = asking[wanted.number] = asyncio.create_task(self._keep(wanted, room))
                        task.add_done_callback(forget)
                await asyncio.sleep(LOOK_S)
        finally:
            for task in asking.values():
                task.cancel()

    @staticmethod
    async def _keep(wanted: Due, room: asyncio.Semaphore) -> None:
        async with room:
            try:
                answer = await ask(wanted)
                await asyncio.to_thread(with_database, lambda: answers.keep(wanted.number, answer, timezone.now()))
            except AWAY as error:
                log.warning("what a controller told could not be kept", controller=wanted.number, error=str(error))
            except Exception:
                # It is this controller's alone; the others are asked all the same.
                log.exception("asking a controller failed", controller=wanted.number)


async def tried(message: Mapping[str, Any]) -> AsyncIterator[dict[str, Any]]:
    """An errand: ask a controller that may not be kept yet; a line for each list, with some of its rows."""
    lists = {name: services.listing(listing) for name, listing in message["lists"].items()}
    wanted = Due(0, message["base"], SignIn(**message["sign_in"]), message["secret"], message["authority"], lists)
    try:
        async for name, told in read(wanted):
            if isinstance(told, Fault):
                yield {"list": name, "rows": [], "count": 0, "wrong": [told.words]}
            else:
                yield {"list": name, "rows": told.rows[:SHOWN], "count": len(told.rows), "wrong": told.wrong}
    except Fault as fault:
        yield {"list": "", "rows": [], "count": 0, "wrong": [fault.words]}
