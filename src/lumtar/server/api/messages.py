"""What was sent to whom, and what is answered by a message's link."""

from datetime import datetime
from typing import Any

from django.http import HttpRequest
from ninja import Field

from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import answers
from lumtar.domain.alarms.models import Message
from lumtar.server.api import paging
from lumtar.server.api.access import ANYBODY, VIEWER, Router
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["calling"])


class AboutOut(Schema):
    """An alarm in a message."""

    alarm: int
    label: str
    severity: int
    at: datetime


class MessageOut(Schema):
    """A message: to whom, when, how far it got, and what was answered. The first alarms that it is about are named."""

    id: int
    contact: str
    channel: str
    target: str
    state: Message.State
    created_at: datetime
    sent_at: datetime | None
    next_at: datetime
    attempts: int
    answer: str
    alarms: int
    about: list[AboutOut]


class MessagesOut(Schema):
    """A page of messages, newest first."""

    rows: list[MessageOut]
    next: str | None


NAMED = 3


@router.get("/messages", needs=VIEWER.everywhere, response=MessagesOut)
def list_messages(
    request: HttpRequest, words: str = "", state: str = "", limit: int = 100, cursor: str | None = None
) -> MessagesOut:
    """What was sent to whom, newest first."""
    begin, size = paging.offset(cursor), max(1, min(limit, 500))
    rows = Message.objects.order_by("-created_at", "-pk").prefetch_related("notifications__change__alarm")
    if words.strip():
        rows = rows.filter(contact__icontains=words.strip()) | rows.filter(target__icontains=words.strip())
    if state:
        if state not in Message.State.values:
            with refusing():
                raise Refusal(f"There is no state {state}; there are {', '.join(Message.State.values)}.", "state")
        rows = rows.filter(state=state)
    page = list(rows[begin : begin + size + 1])
    return MessagesOut(
        rows=[_message(each) for each in page[:size]], next=paging.following(begin, size, begin + len(page))
    )


def _message(row: Message) -> MessageOut:
    told = list(row.notifications.all())
    named: list[dict[str, Any]] = [
        {
            "alarm": each.change.alarm_id,
            "label": each.change.alarm.label,
            "severity": each.change.severity,
            "at": each.change.at,
        }
        for each in told[:NAMED]
    ]
    names = ("contact", "channel", "target", "state", "created_at", "sent_at", "next_at", "attempts", "answer")
    return MessageOut(
        id=row.pk, alarms=len(told), about=[AboutOut(**each) for each in named],
        **{name: getattr(row, name) for name in names},
    )  # fmt: skip


class AnswerIn(Schema):
    """What stands behind the sharp sign of a message's link."""

    token: str = Field(max_length=200)


class AskedOut(Schema):
    """What a message's link is about: to whom it was sent, and what of it is still active."""

    contact: str
    alarms: list[str]


class AcknowledgedOut(Schema):
    """How many alarms were acknowledged."""

    alarms: int


@router.post("/answers/look", needs=ANYBODY, response=AskedOut)
def look_at_answer(request: HttpRequest, body: AnswerIn) -> AskedOut:
    """What a message's link is about; nothing is done yet."""
    with refusing(403):
        asked = answers.asked(body.token)
    return AskedOut(contact=asked.contact, alarms=[alarm.label for alarm in asked.alarms[:50]])


@router.post("/answers", needs=ANYBODY, response=AcknowledgedOut)
def answer(request: HttpRequest, body: AnswerIn) -> AcknowledgedOut:
    """Acknowledge what is still active of a message, in the name of whom it was sent to."""
    with refusing(403):
        return AcknowledgedOut(alarms=answers.acknowledge(body.token))
