"""Alarms, rules, and the time strip's picture."""

from datetime import datetime, timedelta

from django.http import HttpRequest
from django.utils import timezone

from lumtar.core.measures import MEASURES
from lumtar.domain.alarms import queries
from lumtar.domain.alarms.models import AlarmChange, Rule
from lumtar.domain.alarms.queries import AlarmRow
from lumtar.domain.alarms.rules import change
from lumtar.domain.operation import resources
from lumtar.server.api import paging
from lumtar.server.api.access import ENGINEER, VIEWER, Router
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
    at: datetime | None = None,
    start: datetime | None = None,
    device: int | None = None,
    interface: int | None = None,
    limit: int = 200,
    cursor: str | None = None,
) -> Alarms:
    """Alarms that are active (or were ``at``), worst first; with ``active=false`` all of a range, last changed first."""
    until = past(at) or timezone.now()
    begin, size = paging.offset(cursor), max(1, min(limit, 500))
    if active:
        rows, total = queries.active(until, device, interface, limit=size, offset=begin)
        return Alarms(rows=rows, total=total, next=paging.following(begin, size, total))
    since, until = span(start, until, timedelta(days=7))
    rows = queries.history(since, until, size + 1, begin)
    return Alarms(rows=rows[:size], total=None, next=paging.following(begin, size, begin + len(rows)))


class ChangeOut(Schema):
    """A status change."""

    at: datetime
    severity: int
    text: str


class NotificationOut(Schema):
    """Who was told of which change, and whether that went well."""

    at: datetime
    severity: int
    address: str
    state: str
    detail: str


class AlarmOut(Schema):
    """An alarm with its history."""

    row: AlarmRow
    changes: list[ChangeOut]
    notifications: list[NotificationOut]


@router.get("/alarms/{alarm}", needs=VIEWER, response=AlarmOut)
def alarm(request: HttpRequest, alarm: int, at: datetime | None = None) -> AlarmOut:
    """One alarm with its history and who was told."""
    until = past(at) or timezone.now()
    row = queries.by_id(alarm, until)
    if row is None:
        raise Problem(404, "There is no such alarm, or it was not there yet at that time.")
    changes = AlarmChange.objects.filter(alarm_id=alarm, at__lte=until).order_by("-at", "-id")[:200]
    notified = queries.notifications(alarm)
    return AlarmOut(
        row=row,
        changes=[ChangeOut(at=change.at, severity=change.severity, text=change.text) for change in changes],
        notifications=[
            NotificationOut(
                at=t.sent_at or t.at, severity=t.change.severity, address=t.address, state=t.state, detail=t.detail
            )
            for t in notified
        ],
    )


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


class LevelIO(Schema):
    """A severity with the limit beyond which it is reached, and the clearing limit on whose other side it ends."""

    severity: int
    limit: float
    clear: float


class RuleOut(Schema):
    """A rule: a measure with its limits. A limit must be exceeded for ``hold_s`` seconds, or ``times`` of the last ``of`` values.

    ``words``, ``unit`` and ``subject`` are the measure's. The rule about Lumtar itself has the measure "lumtar" and no levels.
    """

    id: int
    name: str
    measure: str
    words: str
    unit: str
    subject: str
    enabled: bool
    scope: str
    above: bool
    levels: list[LevelIO]
    hold_s: int
    times: int
    of: int
    mail_to: list[str]


class RuleChange(Schema):
    """What is to be changed of a rule; what is left out stays."""

    enabled: bool | None = None
    scope: str | None = None
    levels: list[LevelIO] | None = None
    hold_s: int | None = None
    times: int | None = None
    of: int | None = None
    mail_to: list[str] | None = None


OWN = ("name", "measure", "enabled", "scope", "above", "hold_s", "times", "of", "mail_to")


def _rule(rule: Rule) -> RuleOut:
    measure = MEASURES.get(rule.measure)
    return RuleOut(
        id=rule.pk,
        words=measure.words if measure else "Lumtar itself",
        unit=measure.unit if measure else "",
        subject=measure.subject if measure else resources.LUMTAR,
        levels=[LevelIO(**level) for level in rule.levels],
        **{name: getattr(rule, name) for name in OWN},
    )


@router.get("/rules", needs=VIEWER, response=list[RuleOut])
def rules(request: HttpRequest) -> list[RuleOut]:
    """All rules."""
    return [_rule(rule) for rule in Rule.objects.order_by("pk")]


@router.patch("/rules/{rule}", needs=ENGINEER.everywhere, response=RuleOut)
def change_rule(request: HttpRequest, rule: int, body: RuleChange) -> RuleOut:
    """Change a rule; the collector follows within seconds. One that is switched off clears what it raised."""
    with refusing():
        try:
            return _rule(change(rule, body.model_dump(exclude_none=True), request.user.get_username()))
        except Rule.DoesNotExist as error:
            raise Problem(404, "There is no such rule.") from error
