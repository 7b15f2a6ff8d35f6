"""Jobs: who neighbours are, once the inventory is another one; what follows from forwarding tables; what is forgotten."""

import structlog
from django.utils import timezone
from procrastinate.contrib.django import app

from lumtar.domain.topology import inferring, neighbours, routing, stations, wireless

log = structlog.get_logger()


@app.periodic(cron="*/5 * * * *")
@app.task(queue="inventory", queueing_lock="neighbours", lock="neighbours", pass_context=False)
def identify_neighbours(timestamp: int) -> None:
    """A device that was added, renamed or described since may be one that others see."""
    if changed := neighbours.identify():
        log.info("neighbours identified", neighbours=changed)


@app.periodic(cron="*/2 * * * *")
@app.task(queue="inventory", queueing_lock="inferred links", lock="inferred links", pass_context=False)
def infer_links(timestamp: int) -> None:
    """Forwarding tables were read since: what follows from them may be something else."""
    if changed := inferring.infer_links():
        log.info("links inferred from forwarding tables", changed=changed)


@app.periodic(cron="20 3 * * *")
@app.task(queue="inventory", queueing_lock="old stations", lock="old stations", pass_context=False)
def forget_stations(timestamp: int) -> None:
    """Nobody asks any more where something was, or was sent, that long ago."""
    now = timezone.now()
    if forgotten := stations.forget(now) + routing.forget(now) + wireless.forget(now):
        log.info("stations and routes forgotten", rows=forgotten)
