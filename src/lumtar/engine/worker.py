"""The worker: calling people, roll-ups, partitions. Run it as ``python -m lumtar.engine.worker``."""

import asyncio
from datetime import UTC, datetime
from typing import Any

import django
import structlog

from lumtar.engine import logs

if __name__ == "__main__":
    logs.configure()
    django.setup()

from procrastinate.contrib.django import app

from lumtar.domain.operation.jobs import stalled
from lumtar.domain.readings.partitions import ensure_around
from lumtar.domain.selfwatch import selfalarms
from lumtar.engine.calling import Caller
from lumtar.engine.controllers import Controllers
from lumtar.engine.group_rules import GroupRules
from lumtar.engine.jobs import STALLED_S, JobRunner
from lumtar.engine.minute_rules import MinuteRules
from lumtar.engine.service import Service, run, with_database

log = structlog.get_logger()
LOOK_S = 15.0
SETTLING_S = 30.0
QUEUES = ("readings", "inventory")
"""Everything but sweeps, which run where the collector is."""


def run_stalled_again() -> None:
    """Put jobs back into their queue whose service has died."""
    for number, task in stalled(STALLED_S):
        log.warning("a job was left undone and is run again", job=number, task=task)
        app.job_manager.retry_job_by_id(number, datetime.now(UTC))


class Worker(Service):
    """Runs jobs until it is told to stop, and runs those again that somebody left undone."""

    kind = "worker"

    def __init__(self, name: str = "") -> None:
        super().__init__(name)
        self._jobs = JobRunner(QUEUES)
        self._caller = Caller()

    async def prepare(self) -> None:
        """Wait for the database; jobs may write readings."""
        await self.until_there(lambda: ensure_around(datetime.now(UTC)))

    async def work(self) -> None:
        """Work until cancelled."""
        await self.supervise_all(
            {
                "running jobs": self._jobs.run,
                "calling people": self._caller.run,
                "rules about groups": GroupRules().run,
                "rules about links and traffic": MinuteRules().run,
                "asking controllers": Controllers().run,
                "jobs left undone": self._look_for_stalled,
                "alarms of Lumtar itself": self._look_at_lumtar,
            }
        )

    def progress(self) -> dict[str, Any]:
        """How many jobs were run and messages sent since the start, how many of them failed, and when the last job was done."""
        return {
            "jobs": self._jobs.ran,
            "failed_jobs": self._jobs.failed,
            "ran_at": self._jobs.ran_at,
            "messages": self._caller.sent,
            "failed_messages": self._caller.failed,
        }

    async def _look_for_stalled(self) -> None:
        """A job that a dead service left is run again; until then its lock would keep all later ones waiting."""
        while True:
            await asyncio.to_thread(with_database, run_stalled_again)
            await asyncio.sleep(LOOK_S)

    async def _look_at_lumtar(self) -> None:
        # Services that are started together have given no sign of life yet.
        await asyncio.sleep(SETTLING_S)
        while True:
            await asyncio.to_thread(with_database, selfalarms.look)
            await asyncio.sleep(LOOK_S)


if __name__ == "__main__":
    run(Worker)
