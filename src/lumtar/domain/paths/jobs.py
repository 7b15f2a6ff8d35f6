"""Jobs: partitions ahead, hours joined, what is old dropped."""

from datetime import timedelta

import structlog
from django.utils import timezone
from procrastinate.contrib.django import app

from lumtar.domain.paths import store
from lumtar.domain.readings.rollups import hour_of

log = structlog.get_logger()
SETTLED = timedelta(minutes=3)


@app.periodic(cron="5 * * * *")
@app.task(queue="readings", queueing_lock="path hours", lock="path hours", pass_context=False)
def join_path_minutes(timestamp: int) -> None:
    """The last two hours, since a prober may have waited for the database; partitions ahead; what is old."""
    now = timezone.now()
    tables = (store.MINUTES, store.HOURS)
    for table in tables:
        table.ensure_ahead(now)
    last = hour_of(now - SETTLED)
    rows = sum(store.roll_up(last - number * timedelta(hours=1)) for number in (2, 1))
    log.info("path hours joined", rows=rows, dropped=sum(table.drop_old(now) for table in tables))
