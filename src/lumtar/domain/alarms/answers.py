"""Acknowledging from a message: its link holds a signed number, and nothing else is asked of whoever follows it."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from django.core.signing import BadSignature, SignatureExpired, TimestampSigner

from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import actions
from lumtar.domain.alarms.models import Alarm, Message

LASTS = timedelta(days=7)


def _signer() -> TimestampSigner:
    return TimestampSigner(salt="lumtar.answer")


def token_of(message: Message) -> str:
    """What stands in the link of a message."""
    return _signer().sign(str(message.pk))


@dataclass(frozen=True, slots=True)
class Asked:
    """What a link is about: to whom it was sent, and those of its alarms that are still active."""

    contact: str
    alarms: Sequence[Alarm]


def asked(token: str) -> Asked:
    """What a token is about.

    Raises
    ------
    Refusal
    """
    try:
        number = _signer().unsign(token[:200], max_age=LASTS)
    except SignatureExpired as error:
        raise Refusal(f"This link is older than {LASTS.days} days; sign in to acknowledge.") from error
    except BadSignature as error:
        raise Refusal("This link is not complete; copy all of it from the message.") from error
    message = Message.objects.filter(pk=int(number)).first()
    if message is None or message.address is None or not message.address.enabled:
        raise Refusal("Whoever this was sent to is not called any more; sign in to acknowledge.")
    changes = message.notifications.filter(change__severity__gt=0).values("change__alarm_id")
    active = Alarm.objects.filter(pk__in=changes, is_cleared=False).order_by("-severity", "pk")
    return Asked(message.contact, list(active[: actions.MOST]))


def acknowledge(token: str) -> int:
    """Acknowledge what is still active of a message, in the name of whom it was sent to; how many alarms.

    Raises
    ------
    Refusal
    """
    wanted = asked(token)
    if not wanted.alarms:
        raise Refusal("Nothing of it is active any more: there is nothing to acknowledge.")
    numbers = [alarm.pk for alarm in wanted.alarms]
    return actions.act(numbers, actions.Kind.ACKNOWLEDGE, f"{wanted.contact} (by link)"[:150])
