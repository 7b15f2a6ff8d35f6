"""Handing messages over: what waits for an address is gathered to one message, which is tried until it is taken or given up.

Each message has a key of its own, so that one that was sent twice (because whoever sent it died before saying so) is known as
such where it arrives.
"""

from datetime import datetime, timedelta

from django.conf import settings
from django.db import connection, transaction
from django.db.models import QuerySet
from django.utils import timezone

from lumtar.core.alarms.facts import Ended, Said
from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import LUMTAR, Alarm, Message, Notification, Rule
from lumtar.domain.alarms.services import Transition, apply
from lumtar.domain.calling.models import Address
from lumtar.domain.operation import resources
from lumtar.domain.operation.services import announce, be_durable

State = Message.State
WAITS_S = (10, 60, 300, 900)
"""Between one try and the next; after the last one a message is given up."""
TAKEN_FOR_DEAD_S = 120
"""Whoever is still sending after so many seconds has died: no channel takes as long."""
UNDELIVERED = "undelivered"
"""The type of the alarm that messages to an address are not delivered; its qualifier names the address."""


@transaction.atomic
def gather(now: datetime) -> int:
    """Make messages of what is due, one an address; how many. An address that got one just now waits for the next one."""
    be_durable()
    since = now - timedelta(seconds=settings.GATHER_S)
    with connection.cursor() as cursor:
        cursor.execute(
            """SELECT d.id FROM calling_address d WHERE EXISTS (
                SELECT FROM alarms_notification n WHERE n.address_id = d.id AND n.message_id IS NULL AND n.due_at <= %(now)s
            ) AND NOT EXISTS (
                SELECT FROM alarms_message m WHERE m.address_id = d.id AND (m.state IN ('pending', 'sending') OR m.created_at > %(since)s)
            ) ORDER BY d.id FOR UPDATE OF d SKIP LOCKED""",
            {"now": now, "since": since},
        )
        numbers = [row[0] for row in cursor.fetchall()]
    for address in Address.objects.filter(pk__in=numbers).select_related("contact"):
        message = Message.objects.create(
            address=address, contact=address.contact.name, channel=address.channel, target=address.shown,
            created_at=now, next_at=now,
        )  # fmt: skip
        Notification.objects.filter(address=address, message=None, due_at__lte=now).update(message=message)
    return len(numbers)


@transaction.atomic
def claim(now: datetime, most: int) -> list[int]:
    """Messages that are to be sent now, by whoever asks and by nobody else."""
    be_durable()
    with connection.cursor() as cursor:
        cursor.execute(
            """UPDATE alarms_message SET state = 'sending', attempts = attempts + 1, next_at = %(dead)s WHERE id IN (
                SELECT id FROM alarms_message WHERE state IN ('pending', 'sending') AND next_at <= %(now)s
                ORDER BY next_at, id LIMIT %(most)s FOR UPDATE SKIP LOCKED
            ) RETURNING id""",
            {"now": now, "dead": now + timedelta(seconds=TAKEN_FOR_DEAD_S), "most": most},
        )
        return sorted(row[0] for row in cursor.fetchall())


@transaction.atomic
def note_sent(pk: int, answer: str) -> None:
    """A message was taken; an alarm that its address is not reached is over."""
    be_durable()
    now = timezone.now()
    Message.objects.filter(pk=pk).update(state=State.SENT, sent_at=now, answer=answer[:2000])
    message = Message.objects.get(pk=pk)
    if _undelivered().filter(qualifier=_qualifier(message.address_id)).exists():
        _apply_undelivered(message, Severity.CLEARED, Ended("A message was delivered again"), now)
    announce("alarms", _alarms_of(message))


@transaction.atomic
def note_failed(pk: int, words: str, *, again: bool) -> None:
    """A message was not taken. It waits for its next try; after the last one others are told, and that it is not delivered."""
    be_durable()
    now = timezone.now()
    message = Message.objects.select_for_update(of=("self",)).select_related("address__contact").get(pk=pk)
    has_more = again and message.attempts <= len(WAITS_S) and message.address is not None and message.address.enabled
    message.answer = words[:2000]
    message.state = State.PENDING if has_more else State.FAILED
    if has_more:
        message.next_at = now + timedelta(seconds=WAITS_S[message.attempts - 1])
    message.save(update_fields=["answer", "state", "next_at"])
    if not has_more:
        _tell_otherwise(message, now)
        facts = Said(
            f"Messages to {message.contact} by {message.channel} ({message.target}) are not delivered: {words}"[:500]
        )
        _apply_undelivered(message, Severity.MAJOR, facts, now)
    announce("alarms", _alarms_of(message))


def _tell_otherwise(message: Message, now: datetime) -> None:
    """What could not be delivered to one address of a contact goes to the others."""
    if message.address is None:
        return
    failing = {int(qualifier.rpartition(" ")[2]) for qualifier in _undelivered().values_list("qualifier", flat=True)}
    others = [
        each
        for each in message.address.contact.addresses.filter(enabled=True).select_related("contact")
        if each.pk not in failing and each.pk != message.address_id
    ]
    Notification.objects.bulk_create(
        (
            Notification.to(other, each.change_id, now, each.step, each.round)
            for each in message.notifications.all()
            for other in others
        ),
        ignore_conflicts=True,
    )


def _undelivered() -> QuerySet[Alarm]:
    return Alarm.objects.filter(resource_kind=resources.LUMTAR, type=UNDELIVERED, is_cleared=False)


def _qualifier(address: int | None) -> str:
    return f"address {address}"


def _apply_undelivered(message: Message, severity: Severity, facts: Said | Ended, now: datetime) -> None:
    rule = Rule.objects.filter(measure=LUMTAR, enabled=True).order_by("pk").first()
    number, plan = (rule.pk, rule.plan_id) if rule else (None, None)
    apply(
        [
            Transition(
                resources.LUMTAR, 0, UNDELIVERED, _qualifier(message.address_id), severity, facts, now,
                rule=number, plan=plan,
            )
        ]
    )  # fmt: skip


def clear_unused(now: datetime) -> list[int]:
    """Clear the alarms about addresses that nobody is called by any more."""
    used = {_qualifier(pk) for pk in Address.objects.filter(enabled=True).values_list("pk", flat=True)}
    gone = [each.qualifier for each in _undelivered() if each.qualifier not in used]
    return apply(
        Transition(
            resources.LUMTAR, 0, UNDELIVERED, each, Severity.CLEARED, Ended("The address is not used any more"), now
        )
        for each in gone
    )


def _alarms_of(message: Message) -> list[int]:
    return list(message.notifications.values_list("change__alarm_id", flat=True).distinct()[:500])
