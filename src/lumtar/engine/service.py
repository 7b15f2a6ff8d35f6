"""What every long-running service stands on: supervised tasks, a heartbeat of its own, and an orderly end."""

import asyncio
import os
import signal
import threading
import time
from collections import deque
from collections.abc import Awaitable, Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, ClassVar, TypeVar

import structlog
from django.db import DatabaseError, InterfaceError, close_old_connections, connection

from lumtar.domain.operation import services
from lumtar.domain.operation.registry import service
from lumtar.engine.store import passes

log = structlog.get_logger()
T = TypeVar("T")
AWAY = (DatabaseError, InterfaceError)
BEAT_S = 5.0
FIRST_PAUSE_S, LONGEST_PAUSE_S = 0.5, 30.0
"""A task that died is started again after the first pause, which doubles with each further death up to the longest."""
TOO_OFTEN, WITHIN_S = 5, 60.0
"""So many deaths within so many seconds are a fault of the service."""
AGAIN_S = 2.0
"""Seconds between two tries while the database is away."""


def with_database(work: Callable[[], T]) -> T:
    """Blocking work with a connection that is looked at first."""
    close_old_connections()
    return work()


@dataclass(slots=True)
class Task:
    """A supervised task and what became of it. ``deaths`` are by the monotonic clock."""

    name: str
    deaths: deque[float] = field(default_factory=lambda: deque(maxlen=TOO_OFTEN))
    restarts: int = 0
    words: str = ""

    @property
    def is_faulty(self) -> bool:
        """Whether it dies too often."""
        return len(self.deaths) == TOO_OFTEN and time.monotonic() - self.deaths[0] < WITHIN_S


class Service:
    """One service. Subclasses say what :meth:`work` is, and what to tell of it."""

    kind: ClassVar[str]

    def __init__(self, name: str = "") -> None:
        self.name = name or os.environ.get("LUMTAR_INSTANCE", "") or self.kind
        self.started = datetime.now(UTC)
        self.tasks: dict[str, Task] = {}
        self._heart = Heart(self)

    async def prepare(self) -> None:
        """Look at what was before, while the last heartbeat is still that of the run before."""

    async def work(self) -> None:
        """Do what the service is for, until cancelled."""
        raise NotImplementedError

    def progress(self) -> dict[str, Any]:
        """How far it is, rather than that it lives."""
        return {}

    def trouble(self) -> str:
        """What it cannot do just now, in a sentence part; empty if all is well."""
        return ""

    async def run(self) -> None:
        """Work until cancelled, saying every few seconds how it goes."""
        await self.prepare()
        self._heart.start()
        try:
            await self.work()
        finally:
            await asyncio.to_thread(self._heart.finish)

    def state(self) -> tuple[dict[str, Any], str]:
        """What the heartbeat says: progress, and trouble."""
        detail = self.progress()
        restarts = {task.name: task.restarts for task in self.tasks.values() if task.restarts}
        if restarts:
            detail["restarted_tasks"] = restarts
        faulty = next((task for task in self.tasks.values() if task.is_faulty), None)
        words = self.trouble()
        if faulty is not None:
            words = f"its task “{faulty.name}” ends again and again: {faulty.words}"
        return detail, words

    def supervise(self, name: str, work: Callable[[], Awaitable[None]]) -> asyncio.Task[None]:
        """Run something for ever: should it end with an error, that is logged, counted, told, and it begins again."""
        task = self.tasks[name] = Task(name)
        return asyncio.create_task(self._keep_going(task, work))

    async def supervise_all(self, chores: Mapping[str, Callable[[], Awaitable[None]]]) -> None:
        """Run several things for ever, each supervised under its name, until cancelled; then all of them have ended."""
        tasks = [self.supervise(name, work) for name, work in chores.items()]
        try:
            await asyncio.Event().wait()
        finally:
            for each in tasks:
                each.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)

    async def _keep_going(self, task: Task, work: Callable[[], Awaitable[None]]) -> None:
        pause = FIRST_PAUSE_S
        while True:
            began = time.monotonic()
            try:
                await work()
                return
            except Exception as error:
                if passes(error):
                    log.warning("the database is away", task=task.name, error=str(error))
                    await asyncio.sleep(AGAIN_S)
                    continue
                log.exception("a task ended with an error and is started again", task=task.name)
                task.restarts += 1
                task.deaths.append(time.monotonic())
                task.words = f"{type(error).__name__}: {error}"[:200]
                if time.monotonic() - began > WITHIN_S:
                    pause = FIRST_PAUSE_S
            await asyncio.sleep(pause)
            pause = min(LONGEST_PAUSE_S, 2 * pause)

    async def until_there(self, work: Callable[[], T]) -> T:
        """Do blocking work that needs the database, as often as it takes."""
        while True:
            try:
                return await asyncio.to_thread(with_database, work)
            except AWAY as error:
                if not passes(error):
                    raise
                log.warning("the database is not there yet", error=str(error))
                await asyncio.sleep(AGAIN_S)


class Heart:
    """Says that a service lives and how far it is, from a thread and a connection of its own: whatever the event loop is
    busy with, the heartbeat tells of it.
    """

    def __init__(self, owner: Service) -> None:
        self._owner = owner
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._work, name="heart", daemon=True)

    def start(self) -> None:
        """Begin to beat."""
        self._thread.start()

    def finish(self) -> None:
        """Beat no longer, and say that this is as it should be."""
        self._ending.set()
        self._thread.join(BEAT_S)
        with suppress(*AWAY):
            with_database(self._beat)
            services.stopped(self._owner.name, datetime.now(UTC))
        connection.close()

    def _work(self) -> None:
        while not self._ending.is_set():
            try:
                with_database(self._beat)
            except AWAY as error:
                log.warning("no heartbeat", error=str(error))
                connection.close()
            except Exception:
                # Whatever it is, the next beat may be well.
                log.exception("no heartbeat")
                connection.close()
            self._ending.wait(BEAT_S)
        connection.close()

    def _beat(self) -> None:
        owner = self._owner
        detail, trouble = owner.state()
        services.beat(owner.name, owner.started, datetime.now(UTC), detail, kind=owner.kind, trouble=trouble)


def run(make: Callable[[], Service]) -> None:
    """Run a service until a signal says stop; it ends within the time that the registry states."""
    asyncio.run(_main(make))


async def _main(make: Callable[[], Service]) -> None:
    made = make()
    work = asyncio.create_task(made.run())

    def stop() -> None:
        # Should the orderly end hang, there is another one.
        timer = threading.Timer(service(made.kind).stop_s, _give_up, [made.name])
        timer.daemon = True
        timer.start()
        work.cancel()

    for each in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(each, stop)
    with suppress(asyncio.CancelledError):
        await work


def _give_up(name: str) -> None:
    log.error("did not end in time, and is ended", service=name)
    os._exit(1)
