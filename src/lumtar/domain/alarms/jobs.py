"""Jobs: telling people."""

import smtplib

import structlog
from django.conf import settings
from django.core.mail import EmailMessage
from django.db import transaction
from django.utils import timezone
from procrastinate import JobContext, RetryStrategy
from procrastinate.contrib.django import app

from lumtar.core.alarms.severity import Severity
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
        told = (
            Notification.objects.select_for_update(of=("self",))
            .select_related("change__alarm__device__site", "change__alarm__interface")
            .get(pk=notification)
        )
        if told.state != State.PENDING:
            return
        told.state = State.SENDING
        told.save(update_fields=["state"])
    try:
        compose(told).send()
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
    announce("alarms", [told.change.alarm_id])


def compose(told: Notification) -> EmailMessage:
    """The mail about one status change."""
    change = told.change
    alarm = change.alarm
    where = alarm.device.name if alarm.device else "Lumtar itself"
    where += f", port {alarm.interface.label}" if alarm.interface else ""
    severity = Severity(change.severity).word
    lines = [
        f"{where}",
        change.text,
        "",
        f"severity   {severity}",
        f"type       {alarm.get_type_display()}",
        f"site       {(alarm.device.site if alarm.device else None) or 'none'}",
        f"at         {change.at:%Y-%m-%d %H:%M:%S} UTC",
        f"raised     {alarm.raised_at:%Y-%m-%d %H:%M:%S} UTC",
    ]
    # A Message-ID of its own lets mail servers recognise the mail, should it ever be handed over twice.
    domain = settings.DEFAULT_FROM_EMAIL.split("@")[-1]
    headers = {"Message-ID": f"<alarm-{alarm.pk}-change-{change.pk}-{told.pk}@{domain}>"}
    subject = f"[{severity}] {where}: {change.text}"
    return EmailMessage(subject.replace("\n", " ")[:180], "\n".join(lines), to=[told.address], headers=headers)
