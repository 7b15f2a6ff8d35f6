"""Jobs: learning what is normal, judging whether paths keep what is promised."""

from datetime import datetime, timedelta

import structlog
from django.utils import timezone
from procrastinate.contrib.django import app

from lumtar.domain.operation import due
from lumtar.domain.operation.services import announce
from lumtar.domain.paths.judging import HOUR, JUDGED, judge_hour
from lumtar.domain.paths.store import JUDGING, MINUTES
from lumtar.domain.reports import learning, sla, transport_moves

log = structlog.get_logger()
SETTLED = timedelta(minutes=3)


@app.periodic(cron="*/2 * * * *")
@app.task(queue="readings", queueing_lock="learning", lock="learning", pass_context=False)
def learn_what_is_normal(timestamp: int) -> None:
    """Once a day for each subject of a rule that compares with what is normal; soon after such a rule is made."""
    if learned := learning.renew(timezone.now()):
        announce("rules")
        log.info("normal ranges learned", subjects=learned)


@app.periodic(cron="4-59/5 * * * *")
@app.task(queue="readings", queueing_lock="judging paths", lock="judging paths", pass_context=False)
def judge_paths(timestamp: int) -> None:
    """The hours that are over or got something late."""
    now = timezone.now()
    JUDGED.ensure_ahead(now)

    def judge(start: datetime) -> int:
        return judge_hour(start, sla.in_maintenance(start, start + HOUR))

    judged = due.work_off(JUDGING, now - SETTLED, MINUTES.kept - MINUTES.length, judge)
    log.info("paths judged", paths=judged, dropped=JUDGED.drop_old(now))


@app.periodic(cron="* * * * *")
@app.task(queue="readings", queueing_lock="moves", lock="moves", pass_context=False)
def note_moves(timestamp: int) -> None:
    """Where traffic takes another transport than a minute ago."""
    if made := transport_moves.note_moves(timezone.now()):
        log.info("transports noted", moves=len(made))
