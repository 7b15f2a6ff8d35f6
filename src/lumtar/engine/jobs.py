"""Running jobs of some queues, and writing down how periodic ones go."""

import asyncio
import time
from collections.abc import Awaitable, Callable, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import psycopg
from asgiref.sync import sync_to_async
from django.db import close_old_connections, connection, connections
from procrastinate import App
from procrastinate.contrib.django import app
from procrastinate.exceptions import ConnectorException

from lumtar.domain.operation import jobs
from lumtar.domain.operation.services import note_job
from lumtar.engine.service import AWAY, with_database

if TYPE_CHECKING:
    from procrastinate import JobContext

HEARTBEAT_S, STALLED_S = 5.0, 20.0
"""Who runs jobs says so this often; whoever has not for long has died, and its jobs are run again."""
LOOK_S = 2.0
GRACE_S = 8.0
"""Seconds that jobs have to come to their end when their service is told to stop."""


def _with_a_sound_connection(call_next: Callable[[], Any], context: "JobContext", worker: Any) -> Any:
    """A job whose thread holds a connection that broke meanwhile would fail, and so would every later one."""
    close_old_connections()
    try:
        return call_next()
    finally:
        close_old_connections()


async def _while_connected() -> None:
    """Hold a connection until it breaks. Then others have broken as well, of which some would be noticed by nobody.

    Raises
    ------
    psycopg.OperationalError
    """
    settings = connection.get_connection_params()
    wanted = {name: settings[name] for name in ("host", "port", "dbname", "user", "password") if settings.get(name)}
    async with await psycopg.AsyncConnection.connect(**wanted, autocommit=True) as line:
        while True:
            await line.execute("SELECT 1")
            await asyncio.sleep(LOOK_S)


class JobRunner:
    """Runs the jobs of some queues until cancelled."""

    def __init__(self, queues: Sequence[str]) -> None:
        self.ran = self.failed = 0
        self.ran_at: float | None = None
        self.connector: Any = app.connector
        self._queues = list(queues)

    async def run(self) -> None:
        """Run them, with connections of its own."""
        # Periodic jobs are deferred by the thread of Django's connections; one that broke meanwhile would end this at once.
        await sync_to_async(connections.close_all)()
        # An application beside the one that defers jobs: what is deferred belongs to the transaction that it is deferred in.
        running = App(
            connector=self.connector.get_worker_connector(),
            import_paths=app.import_paths,
            worker_defaults=app.worker_defaults,
        )
        running.tasks, running.periodic_registry = app.tasks, app.periodic_registry
        await running.open_async()
        work = running.run_worker_async(
            queues=self._queues,
            concurrency=4,
            listen_notify=True,
            delete_jobs="successful",
            install_signal_handlers=False,
            shutdown_graceful_timeout=GRACE_S,
            update_heartbeat_interval=HEARTBEAT_S,
            stalled_worker_timeout=STALLED_S,
            task_middleware=[_with_a_sound_connection],
            worker_middleware=[self._noting],
        )
        tasks = [asyncio.create_task(each) for each in (work, _while_connected())]
        try:
            await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
        finally:
            for task in tasks:
                task.cancel()
            # What waits for a connection that is gone would wait for ever.
            ended, _ = await asyncio.wait(tasks, timeout=GRACE_S)
            with suppress(TimeoutError, ConnectorException):
                async with asyncio.timeout(LOOK_S):
                    await running.close_async()
        for task in ended:
            if not task.cancelled() and (error := task.exception()):
                raise error

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
            result = await call_next()
        except Exception as error:
            await note(f"{type(error).__name__}: {error}")
            raise
        await note()
        return result
