"""Jobs: partitions ahead, hours summed up, what is old dropped."""

import os
from datetime import timedelta

import structlog
from django.utils import timezone
from procrastinate.contrib.django import app

from lumtar.domain.flows import names, response_times, store, watched
from lumtar.domain.operation import due
from lumtar.domain.readings.rollups import hour_of

log = structlog.get_logger()
SETTLED = timedelta(minutes=5)
"""So long after its end an hour is summed up; exporters tell of a flow at its end, and some minutes after that."""


@app.periodic(cron="2-59/5 * * * *")
@app.task(queue="readings", queueing_lock="flow hours", lock="flow hours", pass_context=False)
def sum_flows_up(timestamp: int) -> None:
    """The hours that are over or got something late; partitions ahead; what is old."""
    now = timezone.now()
    store.ensure_ahead(now)
    until = now - SETTLED
    rows = due.work_off(store.FLOW_HOURS, until, store.MINUTES.kept, store.roll_up)
    rows += due.work_off(store.RESPONSES_OF_HOURS, until, store.RESPONSE_MINUTES.kept, response_times.roll_up)
    if rows:
        for table in (store.HOURS, store.NETWORK_HOURS, store.RESPONSE_HOURS):
            table.analyse(hour_of(until) - timedelta(hours=1))
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
