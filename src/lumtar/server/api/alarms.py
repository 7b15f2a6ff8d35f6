"""Alarms, and the time strip's picture."""

from datetime import datetime, timedelta

from django.http import HttpRequest
from django.utils import timezone
from ninja import Status
from pydantic import Field

from lumtar.domain.alarms import actions, calls, causes, power, queries
from lumtar.domain.alarms.models import AlarmAction, AlarmChange, Message, Notification
from lumtar.domain.alarms.queries import AlarmRow, Episode
from lumtar.server.api import paging
from lumtar.server.api.access import OPERATOR, VIEWER, Router
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past, span

router = Router(tags=["alarms"])


class Alarms(Schema):
    """A page of alarms; ``total`` is how many are active in all."""

    rows: list[AlarmRow]
    total: int | None
    next: str | None


@router.get("/alarms", needs=VIEWER, response=Alarms)
def alarms(
    request: HttpRequest,
    active: bool = True,
    shelved: bool = False,
    at: datetime | None = None,
    start: datetime | None = None,
    device: int | None = None,
    interface: int | None = None,
    path: int | None = None,
    cause: int | None = None,
    words: str = "",
    limit: int = 200,
    cursor: str | None = None,
) -> Alarms:
    """Alarms that are active (or were ``at``), worst first; with ``active=false`` all of a range, last changed first.

    ``shelved`` lists those that are shelved instead of those that are not; ``cause`` the consequences of an alarm, which are
    left out otherwise, unless it is asked for one device, port or path. ``words`` are looked for in the history's resources and texts.
    """
    until = past(at) or timezone.now()
    begin, size = paging.offset(cursor), max(1, min(limit, 500))
    if active:
        rows, total = queries.active(
            until, device, interface, path=path, is_shelved=shelved, cause=cause, limit=size, offset=begin
        )
        return Alarms(rows=rows, total=total, next=paging.following(begin, size, total))
    since, until = span(start, until, timedelta(days=7))
    rows = queries.history(since, until, size + 1, begin, words)
    return Alarms(rows=rows[:size], total=None, next=paging.following(begin, size, begin + len(rows)))


class ChangeOut(Schema):
    """A status change."""

    at: datetime
    severity: int
    text: str


class NotificationOut(Schema):
    """Who was told of which change by which step (from 1), when that was due, and what became of it."""

    at: datetime
    severity: int
    step: int
    contact: str
    channel: str
    target: str
    due_at: datetime
    state: str
    sent_at: datetime | None
    attempts: int
    answer: str


class CallOut(Schema):
    """How far the call plan has got; ``next_at`` is null while it is acknowledged or shelved, and after the last call."""

    plan_id: int
    plan: str
    next_at: datetime | None


class ActionOut(Schema):
    """What somebody did about an alarm; ``until`` is when shelving ends, null once it is cleared."""

    at: datetime
    by: str
    kind: AlarmAction.Kind
    text: str
    until: datetime | None


class AlarmOut(Schema):
    """An alarm with its history."""

    row: AlarmRow
    note: str
    """What else is known of it now, as that its whole site fell silent."""
    instructions: str
    changes: list[ChangeOut]
    actions: list[ActionOut]
    notifications: list[NotificationOut]
    call: CallOut | None
    similar: list[Episode]
    """When it and others of its type were active before, the closest ones first."""


def _notification(told: Notification) -> NotificationOut:
    message = told.message
    return NotificationOut(
        at=told.change.at,
        severity=told.change.severity,
        step=told.step + 1,
        state=message.state if message else Message.State.PENDING,
        sent_at=message.sent_at if message else None,
        attempts=message.attempts if message else 0,
        answer=message.answer if message else "",
        **{name: getattr(told, name) for name in ("contact", "channel", "target", "due_at")},
    )


def _call(alarm: int) -> CallOut | None:
    call = calls.remaining(alarm)
    return CallOut(plan_id=call.plan_id, plan=call.plan.name, next_at=call.next_at) if call else None


@router.post("/alarms/{int:alarm}/overrule", needs=OPERATOR, response={204: None})
def overrule_cause(request: HttpRequest, alarm: int) -> Status[None]:
    """Say that an alarm does not follow from its cause: it stands by itself from now on."""
    if not causes.overrule(alarm, request.user.get_username(), timezone.now()):
        raise Problem(409, "This alarm stands by itself already; load it again.")
    actions.act([alarm], AlarmAction.Kind.COMMENT, request.user.get_username(), "It does not follow from its cause")
    return Status(204, None)


@router.get("/alarms/{int:alarm}", needs=VIEWER, response=AlarmOut)
def alarm(request: HttpRequest, alarm: int, at: datetime | None = None) -> AlarmOut:
    """One alarm with its history and who was told."""
    until = past(at) or timezone.now()
    row = queries.by_id(alarm, until)
    if row is None:
        raise Problem(404, "There is no such alarm, or it was not there yet at that time.")
    changes = AlarmChange.objects.filter(alarm_id=alarm, at__lte=until).order_by("-at", "-id")[:200]
    return AlarmOut(
        row=row,
        note=power.note_of(row.type, row.device_id) if at is None and row.severity else "",
        instructions=queries.instructions(alarm),
        actions=[ActionOut.model_validate(action) for action in queries.actions(alarm, until)],
        changes=[ChangeOut(at=change.at, severity=change.severity, text=change.text) for change in changes],
        notifications=[_notification(each) for each in queries.notifications(alarm)],
        call=_call(alarm) if at is None else None,
        similar=queries.similar(alarm, until),
    )


class ActionIn(Schema):
    """What to do about some alarms. Shelving lasts ``for_s`` seconds, or without them until they are cleared."""

    alarms: list[int] = Field(min_length=1, max_length=actions.MOST)
    kind: AlarmAction.Kind
    text: str = Field("", max_length=1000)
    for_s: int | None = Field(None, gt=0)


class Acted(Schema):
    """How many alarms it was done about."""

    alarms: int


@router.post("/alarms/actions", needs=OPERATOR, response=Acted)
def act(request: HttpRequest, body: ActionIn) -> Acted:
    """Acknowledge, comment on or shelve alarms, or take either back."""
    until = timezone.now() + timedelta(seconds=min(body.for_s, 10**9)) if body.for_s else None
    with refusing():
        done = actions.act(body.alarms, AlarmAction.Kind(body.kind), request.user.get_username(), body.text, until)
    return Acted(alarms=done)


class BucketOut(Schema):
    """How many alarms stood within a bucket, and the worst severity."""

    count: int
    worst: int


@router.get("/timeline", needs=VIEWER, response=list[BucketOut])
def timeline(
    request: HttpRequest, start: datetime | None = None, end: datetime | None = None, buckets: int = 96
) -> list[BucketOut]:
    """The density of alarms over a range, in equal buckets."""
    since, until = span(start, end, timedelta(days=1))
    counted = queries.timeline(since, until, max(1, min(buckets, 500)))
    return [BucketOut(count=bucket.count, worst=bucket.worst) for bucket in counted]
