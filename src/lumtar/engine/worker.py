"""The job worker: notifications, roll-ups, partitions. Run it as ``python -m lumtar.engine.worker``."""

import asyncio
import time
from datetime import UTC, datetime

import django
import structlog

log = structlog.get_logger()
BEAT = 5.0


async def work() -> None:
    """Run jobs until told to stop, saying every few seconds that the worker lives."""
    from asgiref.sync import sync_to_async
    from django.db import DatabaseError, InterfaceError, close_old_connections
    from procrastinate.contrib.django import app

    from lumtar.domain.operation.services import beat
    from lumtar.domain.readings.partitions import ensure_around

    started = datetime.now(UTC)

    def say() -> None:
        close_old_connections()
        beat("worker", started, datetime.now(UTC), {})

    async def alive() -> None:
        while True:
            try:
                await sync_to_async(say)()
            except (DatabaseError, InterfaceError) as error:
                log.warning("no heartbeat", error=str(error))
            await asyncio.sleep(BEAT)

    await sync_to_async(ensure_around)(started)
    heart = asyncio.create_task(alive())
    try:
        async_connector = app.connector.get_worker_connector()  # type: ignore[attr-defined]
        with app.replace_connector(async_connector) as ready:
            await ready.open_async()
            await ready.run_worker_async(
                concurrency=4, listen_notify=True, delete_jobs="successful", shutdown_graceful_timeout=5
            )
    finally:
        heart.cancel()


def main() -> None:
    """Start over whenever the database goes away."""
    from lumtar.engine import logs

    logs.configure()
    django.setup()
    from django.db import DatabaseError, connections
    from procrastinate.exceptions import ConnectorException
    from psycopg import OperationalError

    while True:
        try:
            asyncio.run(work())
            return
        except (DatabaseError, ConnectorException, OperationalError) as error:
            log.warning("database not there, trying again", error=str(error))
            connections.close_all()
            time.sleep(2)
        except KeyboardInterrupt:
            return


if __name__ == "__main__":
    main()
