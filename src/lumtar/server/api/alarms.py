"""Alarms, rules, and the time strip's picture."""

from datetime import datetime, timedelta

from django.core.exceptions import ValidationError
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone

from lumtar.core.alarms.severity import Severity
from lumtar.core.rules.threshold import Threshold
from lumtar.domain.alarms import queries
from lumtar.domain.alarms.models import AlarmChange, AlarmType, Rule
from lumtar.domain.alarms.queries import AlarmRow
from lumtar.domain.logbook.services import note_action
from lumtar.server.api import paging
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.problems import Problem
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past, span

router = Router(tags=["alarms"])


class Alarms(Schema):
    """A page of alarms."""

    rows: list[AlarmRow]
    next: str | None


@router.get("/alarms", needs=VIEWER, response=Alarms)
def alarms(
    request: HttpRequest,
    standing: bool = True,
    at: datetime | None = None,
    start: datetime | None = None,
    device: int | None = None,
    interface: int | None = None,
    limit: int = 200,
    cursor: str | None = None,
) -> Alarms:
    """Alarms that stand (or stood ``at``); with ``standing=false`` all of a range, last changed first."""
    until = past(at) or timezone.now()
    if standing:
        return Alarms(rows=queries.standing(until, device, interface), next=None)
    since, until = span(start, until, timedelta(days=7))
    begin, size = paging.offset(cursor), max(1, min(limit, 500))
    rows = queries.history(since, until, size + 1, begin)
    return Alarms(rows=rows[:size], next=paging.following(begin, size, begin + len(rows)))


class ChangeOut(Schema):
    """A status change."""

    at: datetime
    severity: int
    text: str


class ToldOut(Schema):
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
    told: list[ToldOut]


@router.get("/alarms/{alarm}", needs=VIEWER, response=AlarmOut)
def alarm(request: HttpRequest, alarm: int, at: datetime | None = None) -> AlarmOut:
    """One alarm with its history and who was told."""
    until = past(at) or timezone.now()
    row = queries.by_id(alarm, until)
    if row is None:
        raise Problem(404, "There is no such alarm, or it was not there yet at that time.")
    changes = AlarmChange.objects.filter(alarm_id=alarm, at__lte=until).order_by("-at", "-id")[:200]
    told = queries.notifications(alarm)
    return AlarmOut(
        row=row,
        changes=[ChangeOut(at=change.at, severity=change.severity, text=change.text) for change in changes],
        told=[
            ToldOut(at=t.sent_at or t.at, severity=t.change.severity, address=t.address, state=t.state, detail=t.detail)
            for t in told
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
    found = queries.timeline(since, until, max(1, min(buckets, 500)))
    return [BucketOut(count=bucket.count, worst=bucket.worst) for bucket in found]


class RuleOut(Schema):
    """A rule. The limits are per cent; reachability has none, and counts polls without an answer."""

    id: int
    name: str
    type: str
    enabled: bool
    limit_percent: float
    clear_percent: float
    readings: int
    severity: int
    mail_to: list[str]


class RuleChange(Schema):
    """What is to be changed of a rule; what is left out stays."""

    enabled: bool | None = None
    limit_percent: float | None = None
    clear_percent: float | None = None
    readings: int | None = None
    severity: int | None = None
    mail_to: list[str] | None = None


def _rule(rule: Rule) -> RuleOut:
    return RuleOut(id=rule.pk, **{name: getattr(rule, name) for name in RuleOut.model_fields if name != "id"})


@router.get("/rules", needs=VIEWER, response=list[RuleOut])
def rules(request: HttpRequest) -> list[RuleOut]:
    """All rules."""
    return [_rule(rule) for rule in Rule.objects.order_by("pk")]


@router.patch("/rules/{rule}", needs=ENGINEER.whole, response=RuleOut)
def change_rule(request: HttpRequest, rule: int, told: RuleChange) -> RuleOut:
    """Change a rule; the collector follows within seconds."""
    found = get_object_or_404(Rule, pk=rule)
    wanted = told.model_dump(exclude_none=True)
    for name, value in wanted.items():
        setattr(found, name, value)
    try:
        if found.type == AlarmType.UTILISATION:
            Threshold(found.limit_percent, found.clear_percent, found.readings)
        elif not 1 <= found.readings <= 1000:
            raise ValueError("The number of polls without an answer must lie between 1 and 1,000.")
        if found.severity not in [int(each) for each in Severity if each > Severity.CLEARED]:
            raise ValueError("The severity is a number from 1 (indeterminate) to 5 (critical).")
        found.full_clean()
    except ValidationError as error:
        raise Problem(422, " ".join(error.messages)) from error
    except ValueError as error:
        raise Problem(422, str(error)) from error
    found.save()
    text = f"rule {found.name} changed: " + ", ".join(f"{name} {value}" for name, value in wanted.items())
    note_action(text, request.user.get_username())
    return _rule(found)
