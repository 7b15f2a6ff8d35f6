"""Jobs: learning what is normal."""

import structlog
from django.utils import timezone
from procrastinate.contrib.django import app

from lumtar.domain.operation.services import announce
from lumtar.domain.reports import learning

log = structlog.get_logger()


@app.periodic(cron="*/2 * * * *")
@app.task(queue="readings", queueing_lock="learning", lock="learning", pass_context=False)
def learn_what_is_normal(timestamp: int) -> None:
    """Once a day for each subject of a rule that compares with what is normal; soon after such a rule is made."""
    if learned := learning.renew(timezone.now()):
        announce("rules")
        log.info("normal ranges learned", subjects=learned)
