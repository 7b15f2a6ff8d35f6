"""Run the collector: ``python -m lumtar.engine.collector``."""

import asyncio
import signal

import django

from lumtar.engine import logs


async def main() -> None:
    """Collect until a signal says stop."""
    from lumtar.engine.collector.collector import Collector

    work = asyncio.create_task(Collector().run())
    loop = asyncio.get_running_loop()
    for name in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(name, work.cancel)
    try:
        await work
    except asyncio.CancelledError:
        return


logs.configure()
django.setup()
asyncio.run(main())
