"""Jobs: roll-ups and partitions."""

from datetime import UTC, datetime, timedelta

import structlog
from procrastinate.contrib.django import app

from lumtar.domain.operation.services import announce
from lumtar.domain.readings import ethernet, partitions, rollups

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
    if dropped := partitions.drop_old(now):
        log.info("dropped", partitions=dropped)


@app.periodic(cron="20 0 * * *")
@app.task(queue="readings", queueing_lock="rewrite", pass_context=False)
def rewrite_yesterday(timestamp: int) -> None:
    """Rewrite the day that has closed by interface."""
    partitions.rewrite_by_subject(datetime.fromtimestamp(timestamp, UTC).date() - timedelta(days=1))
