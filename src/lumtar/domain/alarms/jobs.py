"""Jobs: notifying people, and keeping what rules remember in few pieces."""

import smtplib

import structlog
from django.conf import settings
from django.core.mail import EmailMessage
from django.db import transaction
from django.utils import timezone
from procrastinate import JobContext, RetryStrategy
from procrastinate.contrib.django import app

from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms import memory
from lumtar.domain.alarms.models import Notification
from lumtar.domain.operation.services import announce, be_durable

log = structlog.get_logger()
State = Notification.State


RETRIES = 8
"""With waits of 4, 16, 64 … seconds: about a day."""


@app.task(queue="notify", retry=RetryStrategy(max_attempts=RETRIES, exponential_wait=4), pass_context=True)
def send_mail(context: JobContext, notification: int) -> None:
    """Send one mail, at most once.

    It is marked as being sent before it is handed over, so that a crash in between can lose
    a mail but never double one; only a hand-over that surely failed is tried again.
    """
    with transaction.atomic():
        be_durable()
        notification_row = (
            Notification.objects.select_for_update(of=("self",))
            .select_related("change__alarm__rule")
            .get(pk=notification)
        )
        if notification_row.state != State.PENDING:
            return
        notification_row.state = State.SENDING
        notification_row.save(update_fields=["state"])
    try:
        compose(notification_row).send()
    except (ConnectionError, smtplib.SMTPConnectError, smtplib.SMTPHeloError, smtplib.SMTPAuthenticationError) as error:
        given_up = context.job.attempts >= RETRIES
        detail = f"The mail server cannot be used{', given up' if given_up else ''}: {error}"[:300]
        state = State.FAILED if given_up else State.PENDING
        Notification.objects.filter(pk=notification).update(state=state, detail=detail)
        raise
    except (OSError, smtplib.SMTPException) as error:
        Notification.objects.filter(pk=notification).update(state=State.FAILED, detail=f"Not sent: {error}"[:300])
        log.warning("mail failed", notification=notification, error=str(error))
        return
    Notification.objects.filter(pk=notification).update(state=State.SENT, sent_at=timezone.now(), detail="")
    announce("alarms", [notification_row.change.alarm_id])


@app.periodic(cron="*/5 * * * *")
@app.task(queue="readings", queueing_lock="rule-memory", pass_context=False)
def join_rule_memory(timestamp: int) -> None:
    """Join the pieces in which rules wrote down what they remember."""
    if pieces := memory.join():
        log.info("rule memory joined", pieces=pieces)


def compose(notification: Notification) -> EmailMessage:
    """The mail about one status change."""
    change = notification.change
    alarm = change.alarm
    severity, text = Severity(change.severity).word, change.text
    lines = [
        alarm.label,
        text,
        "",
        f"severity   {severity}",
        f"type       {alarm.type}",
        f"site       {alarm.site or 'none'}",
        f"at         {change.at:%Y-%m-%d %H:%M:%S} UTC",
        f"raised     {alarm.raised_at:%Y-%m-%d %H:%M:%S} UTC",
    ]
    if alarm.rule and alarm.rule.instructions and severity != Severity.CLEARED.word:
        lines += ["", "What to do", alarm.rule.instructions]
    # A Message-ID of its own lets mail servers recognise the mail, should it ever be handed over twice.
    domain = settings.DEFAULT_FROM_EMAIL.split("@")[-1]
    headers = {"Message-ID": f"<alarm-{alarm.pk}-change-{change.pk}-{notification.pk}@{domain}>"}
    subject = f"[{severity}] {alarm.label}: {text}"
    return EmailMessage(subject.replace("\n", " ")[:180], "\n".join(lines), to=[notification.address], headers=headers)
