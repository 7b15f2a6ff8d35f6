"""Mail, by the mail server of the installation."""

import smtplib

from django.conf import settings
from django.core.exceptions import ValidationError
from django.core.mail import EmailMultiAlternatives
from django.core.validators import validate_email

from lumtar.core.refusal import Refusal
from lumtar.domain.calling.channels.registry import Blank, Channel, Message, Target, Undelivered, register


def _check(target: Target) -> str:
    address = target.get("address", "").strip()
    try:
        validate_email(address)
    except ValidationError as error:
        raise Refusal(f"“{address[:100]}” is no mail address.", "target") from error
    return address


def _send(target: Target, message: Message) -> str:
    """Hand a mail over. The same Message-ID each time lets mail servers recognise one that comes twice."""
    domain = settings.DEFAULT_FROM_EMAIL.split("@")[-1]
    text = message.text
    if message.answer_link:
        text += f"\n\nAcknowledge: {message.answer_link}"
    if message.link:
        text += f"\nMore: {message.link}"
    subject = " ".join(message.subject.split())[:180]
    mail = EmailMultiAlternatives(
        subject, text, to=[target["address"]], headers={"Message-ID": f"<{message.key}@{domain}>"}
    )
    if message.picture:
        mail.attach("hour.png", message.picture, "image/png")
    try:
        mail.send()
    except smtplib.SMTPRecipientsRefused as error:
        code, words = next(iter(error.recipients.values()), (550, b""))
        reason = words.decode(errors="replace") if isinstance(words, bytes) else str(words)
        # RFC 5321, section 4.2.1: 4yz is a transient answer, 5yz a permanent one.
        raise Undelivered(f"The mail server refuses the address: {code} {reason}", again=code < 500) from error
    except smtplib.SMTPResponseException as error:
        reason = error.smtp_error.decode(errors="replace") if isinstance(error.smtp_error, bytes) else error.smtp_error
        raise Undelivered(f"The mail server answered {error.smtp_code} {reason}") from error
    except (OSError, smtplib.SMTPException) as error:
        raise Undelivered(f"The mail server cannot be used: {error}") from error
    return "accepted by the mail server"


register(Channel("mail", "Mail", (Blank("address", "Address", "duty@example.net"),), _check, _send))
