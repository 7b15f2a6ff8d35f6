"""Jobs: keeping what rules remember in few pieces."""

import structlog
from procrastinate.contrib.django import app

from lumtar.domain.alarms import memory

log = structlog.get_logger()


@app.periodic(cron="*/5 * * * *")
@app.task(queue="readings", queueing_lock="rule-memory", pass_context=False)
def join_rule_memory(timestamp: int) -> None:
    """Join the pieces in which rules wrote down what they remember."""
    if pieces := memory.join():
        log.info("rule memory joined", pieces=pieces)
