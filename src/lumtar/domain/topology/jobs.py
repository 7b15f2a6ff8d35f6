"""Jobs: finding out who neighbours are, once the inventory is another one."""

import structlog
from procrastinate.contrib.django import app

from lumtar.domain.topology import neighbours

log = structlog.get_logger()


@app.periodic(cron="*/5 * * * *")
@app.task(queue="inventory", queueing_lock="neighbours", lock="neighbours", pass_context=False)
def identify_neighbours(timestamp: int) -> None:
    """A device that was added, renamed or described since may be one that others see."""
    if changed := neighbours.identify():
        log.info("neighbours identified", neighbours=changed)
