"""Jobs: roll-ups and partitions."""

from datetime import UTC, datetime

import structlog
from procrastinate.contrib.django import app

from lumtar.domain.operation.services import announce
from lumtar.domain.readings import ethernet, partitions, rollups, services

log = structlog.get_logger()


@app.periodic(cron="* * * * *")
@app.task(queue="readings", queueing_lock="roll-up", lock="roll-up", pass_context=False)
def roll_up(timestamp: int) -> None:
    """Sum up the five minutes, hours and days that have closed, or got readings late."""
    rows = rollups.roll_up_due(datetime.fromtimestamp(timestamp, UTC))
    if rows:
        log.info("rolled up", rows=rows)
        announce("sums")


@app.periodic(cron="7 * * * *")
@app.task(queue="readings", queueing_lock="partitions", pass_context=False)
def keep_partitions(timestamp: int) -> None:
    """Make partitions ahead and drop old ones."""
    now = datetime.fromtimestamp(timestamp, UTC)
    partitions.ensure_around(now)
    ethernet.drop_old(now)
    services.forget_batches()
    if dropped := partitions.drop_old(now):
        log.info("dropped", partitions=dropped)


@app.periodic(cron="20 * * * *")
@app.task(queue="readings", queueing_lock="rewrite", lock="roll-up", pass_context=False)
def rewrite_closed(timestamp: int) -> None:
    """Bring what has closed into the order in which it is read."""
    for each in partitions.closed(datetime.fromtimestamp(timestamp, UTC)):
        log.info("rewritten" if partitions.rewrite(each) else "not rewritten, the table is in use", partition=each.name)
