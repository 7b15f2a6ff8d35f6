"""Jobs: partitions ahead, hours summed up, what is old dropped."""

import os
from datetime import timedelta

import structlog
from django.utils import timezone
from procrastinate.contrib.django import app

from lumtar.domain.flows import names, response_times, store, watched
from lumtar.domain.readings.rollups import hour_of

log = structlog.get_logger()
SETTLED = timedelta(minutes=5)
"""So long after its end an hour is summed up; exporters tell of a flow at its end, and some minutes after that."""


@app.periodic(cron="7 * * * *")
@app.task(queue="readings", queueing_lock="flow hours", lock="flow hours", pass_context=False)
def sum_flows_up(timestamp: int) -> None:
    """The last two hours, since something may have come late; partitions ahead; what is old."""
    now = timezone.now()
    store.ensure_ahead(now)
    last = hour_of(now - SETTLED)
    rows = sum(store.roll_up(last - number * timedelta(hours=1)) for number in (2, 1))
    rows += sum(response_times.roll_up(last - number * timedelta(hours=1)) for number in (2, 1))
    for table in (store.HOURS, store.NETWORK_HOURS, store.RESPONSE_HOURS):
        table.analyse(last)
    log.info("flows summed up", rows=rows, dropped=store.drop_old(now))


@app.periodic(cron="*/5 * * * *")
@app.task(queue="readings", queueing_lock="names of addresses", lock="names of addresses", pass_context=False)
def name_addresses(timestamp: int) -> None:
    """Names by DNS, if somebody wants that: it asks servers that may be anywhere."""
    if os.environ.get("LUMTAR_NAMES", "").lower() == "on":
        log.info("addresses looked up", answered=names.renew(timezone.now()))


@app.periodic(cron="* * * * *")
@app.task(queue="readings", queueing_lock="new in watched traffic", lock="new in watched traffic", pass_context=False)
def note_new_in_watched_traffic(timestamp: int) -> None:
    """What is seen in watched traffic for the first time."""
    watched.note_seen(timezone.now())
