"""Jobs: partitions ahead, levels joined, what is old dropped."""

from datetime import timedelta

import structlog
from django.utils import timezone
from procrastinate.contrib.django import app

from lumtar.domain.paths import levels

log = structlog.get_logger()
SETTLED = timedelta(minutes=2)


@app.periodic(cron="3-59/5 * * * *")
@app.task(queue="readings", queueing_lock="path levels", lock="path levels", pass_context=False)
def join_path_minutes(timestamp: int) -> None:
    """Five minutes, hours and days that are over or got something late; partitions ahead; what is old."""
    now = timezone.now()
    for table in levels.LEVELS:
        table.ensure_ahead(now)
    rows = levels.work_off(now - SETTLED)
    log.info("path levels joined", rows=rows, dropped=sum(table.drop_old(now) for table in levels.LEVELS))
