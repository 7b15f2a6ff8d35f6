"""The job worker: notifications, roll-ups, partitions. Run it as ``python -m lumtar.engine.worker``."""

import asyncio
import time
from collections.abc import Awaitable, Callable
from contextlib import suppress
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import django
import structlog

from lumtar.engine import logs

if __name__ == "__main__":
    logs.configure()
    django.setup()

from procrastinate.contrib.django import app
from procrastinate.manager import JobManager

from lumtar.domain.operation import jobs
from lumtar.domain.operation.services import note_job
from lumtar.domain.readings.partitions import ensure_around
from lumtar.domain.selfwatch import selfalarms
from lumtar.engine.service import AWAY, Service, run, with_database

if TYPE_CHECKING:
    from procrastinate import JobContext

log = structlog.get_logger()
HEARTBEAT_S, STALLED_S = 5.0, 20.0
"""A worker says that it lives so often; one that has not done so for long has died, and its jobs are run again."""
LOOK_S = 15.0
GRACE_S = 10.0
"""Seconds that jobs have to come to their end when the worker is told to stop."""


class Worker(Service):
    """Runs jobs until it is told to stop, and runs those again that another worker left undone."""

    kind = "worker"

    def __init__(self, name: str = "") -> None:
        super().__init__(name)
        self.ran = self.failed = 0
        self._connector: Any = app.connector
        self.ran_at: float | None = None

    async def prepare(self) -> None:
        """Wait for the database; jobs may write readings."""
        await self.until_there(lambda: ensure_around(datetime.now(UTC)))

    async def work(self) -> None:
        """Work until cancelled."""
        chores = [
            self.supervise(name, work)
            for name, work in (
                ("running jobs", self._run_jobs),
                ("jobs left undone", self._look_for_stalled),
                ("alarms of Lumtar itself", self._look_at_lumtar),
            )
        ]
        try:
            await asyncio.Event().wait()
        finally:
            for each in chores:
                each.cancel()
            await asyncio.gather(*chores, return_exceptions=True)

    def progress(self) -> dict[str, Any]:
        """How many jobs were run since the start, how many of them failed, and when the last one was done."""
        return {"jobs": self.ran, "failed_jobs": self.failed, "ran_at": self.ran_at}

    async def _run_jobs(self) -> None:
        connector = self._connector.get_worker_connector()
        with app.replace_connector(connector) as connected:
            async with connected.open_async():
                await connected.run_worker_async(
                    concurrency=4,
                    listen_notify=True,
                    delete_jobs="successful",
                    install_signal_handlers=False,
                    shutdown_graceful_timeout=GRACE_S,
                    update_heartbeat_interval=HEARTBEAT_S,
                    stalled_worker_timeout=STALLED_S,
                    worker_middleware=[self._noting],
                )

    async def _noting(self, call_next: Callable[[], Awaitable[Any]], context: "JobContext", worker: Any) -> Any:
        """Count every job; of a periodic one write down how it went."""
        name = context.job.task_name
        every = jobs.periods(app).get(name)
        began = time.monotonic()

        async def note(problem: str = "") -> None:
            self.ran += 1
            self.failed += bool(problem)
            self.ran_at = time.time()
            if every is not None:
                took = round(1000 * (time.monotonic() - began), 1)
                with suppress(*AWAY):
                    await asyncio.to_thread(
                        with_database, lambda: note_job(name, every, datetime.now(UTC), took, problem)
                    )

        try:
            told = await call_next()
        except Exception as error:
            await note(f"{type(error).__name__}: {error}")
            raise
        await note()
        return told

    async def _look_for_stalled(self) -> None:
        """A job that a dead worker left is run again; until then its lock would keep all later ones waiting."""
        manager = JobManager(self._connector)
        while True:
            for job in await manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_S):
                log.warning("a job was left undone and is run again", job=job.id, task=job.task_name)
                await manager.retry_job(job)
            await asyncio.sleep(LOOK_S)

    async def _look_at_lumtar(self) -> None:
        while True:
            await asyncio.to_thread(with_database, selfalarms.look)
            await asyncio.sleep(LOOK_S)


if __name__ == "__main__":
    run(Worker)
