"""What a rule would have done, what it did, and what its conditions, formulas and limits come to."""

from collections.abc import Iterator
from dataclasses import asdict
from datetime import timedelta
from functools import partial
from typing import Any

from django.http import HttpRequest, StreamingHttpResponse
from django.utils import timezone
from pydantic import Field

from lumtar.core.alarms.severity import Severity
from lumtar.core.alarms.wording import compared
from lumtar.core.measures import measure_of
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Figures, Raised
from lumtar.core.rules import Rule as CoreRule
from lumtar.domain.alarms import exceptions, rules
from lumtar.domain.alarms.models import Rule
from lumtar.domain.calling import plans
from lumtar.domain.inventory import asking
from lumtar.domain.reports import learning, rehearsals, rule_report
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.problems import refusing
from lumtar.server.api.rules import RuleIn, labels_of
from lumtar.server.api.schema import Schema
from lumtar.server.api.streaming import json_lines

router = Router(tags=["rules"])
MOST_REPORTED_DAYS = 400
Step = rehearsals.Progress | rehearsals.Rehearsal
MARKS = 2000
"""Alarms of a rehearsal that are listed one by one."""


class RehearsalIn(RuleIn):
    """A rule that is not kept, and the days until now to go through."""

    days: float = Field(7, gt=0, le=rehearsals.LONGEST_DAYS)
    rule_id: int | None = None
    """The rule that it is to become: its exceptions hold here as well."""


class LineIn(RehearsalIn):
    """The same for one subject."""

    subject_id: int


class MarkOut(Schema):
    """An alarm that would have been raised, by seconds of the epoch."""

    subject_id: int
    label: str
    raised_at: float
    cleared_at: float | None
    severity: int
    value: float


class NoisyOut(Schema):
    """A subject with many alarms: how many, and for how many seconds they were active."""

    subject_id: int
    label: str
    alarms: int
    seconds: float


class RehearsalOut(Schema):
    """What a rule would have done. ``step_s`` is 0 if it went from reading to reading, ``listed`` are the first 2,000 alarms."""

    start: float
    end: float
    subjects: int
    step_s: int
    took_ms: float
    alarms: int
    a_day: float
    at_night: int
    active: int
    longest_s: float
    by_severity: dict[str, int]
    """Number of the severity -> alarms."""
    messages: dict[str, int]
    """Contact -> messages, if the plan's first step had called those who are on duty now, and nobody had acknowledged."""
    noisiest: list[NoisyOut]
    listed: list[MarkOut]


@router.post("/rules/rehearsal", needs=ENGINEER, response=RehearsalOut)
def rehearse(request: HttpRequest, body: RehearsalIn) -> RehearsalOut:
    """Go through stored history with a rule that is not kept: what it would have raised, and who would have been notified."""
    with refusing():
        *_, done = _steps(body)
    return _rehearsed(body, done)


@router.post("/rules/rehearsal/steps", needs=ENGINEER)
def rehearse_in_steps(request: HttpRequest, body: RehearsalIn) -> StreamingHttpResponse:
    """The same line by line (application/x-ndjson): ``done`` of so many ``subjects``, and last the ``rehearsal``."""
    with refusing():
        going = _steps(body)

    def lines() -> Iterator[dict[str, Any]]:
        for step in going:
            if isinstance(step, rehearsals.Progress):
                yield asdict(step)
            else:
                yield {"rehearsal": _rehearsed(body, step).model_dump(mode="json")}

    return json_lines(lines())


def _steps(body: RehearsalIn) -> Iterator[Step]:
    rule, end = _core(body), timezone.now()
    subjects = rehearsals.subjects_of(rule.subject, body.scope)
    own = exceptions.own_levels(body.rule_id, rule.measure)
    return rehearsals.steps(rule, subjects, end - timedelta(days=body.days), end, _normals(body), own)


def _rehearsed(body: RehearsalIn, done: Step) -> RehearsalOut:
    assert isinstance(done, rehearsals.Rehearsal)
    kind = measure_of(body.measure).subject
    listed, counted = done.alarms[:MARKS], done.figures
    wanted = {alarm.subject for alarm in listed} | {subject for subject, _, _ in counted.noisiest}
    labels = labels_of(kind, wanted)
    return RehearsalOut(
        start=done.start.timestamp(),
        end=done.end.timestamp(),
        messages=_messages(body.plan_id, counted.changes),
        noisiest=[
            NoisyOut(subject_id=subject, label=labels.get(subject, "gone"), alarms=alarms, seconds=seconds)
            for subject, alarms, seconds in counted.noisiest
        ],
        listed=[_mark(alarm, labels) for alarm in listed],
        **{name: getattr(done, name) for name in ("subjects", "step_s", "took_ms")},
        **_figures(counted),
    )


def _messages(plan: int | None, changes: int) -> dict[str, int]:
    loaded = plans.load([plan] if plan is not None else []).get(plan or 0)
    if loaded is None or not loaded.calls:
        return {}
    now, first = timezone.now(), loaded.calls[0].after_s
    reached = [loaded.reached(call, now, Severity.CRITICAL) for call in loaded.calls if call.after_s == first]
    return {contact.name: changes for each in reached for contact in each.contacts}


def _normals(body: RuleIn) -> rehearsals.Learn:
    return partial(learning.over, without=body.without)


def _core(body: RuleIn) -> CoreRule:
    given = body.model_dump(include=set(RuleIn.model_fields))
    return rules.understood(Rule(**given))


def _figures(counted: Figures) -> dict[str, Any]:
    named = asdict(counted)
    figures = {name: named[name] for name in ("alarms", "a_day", "at_night", "active", "longest_s")}
    return {**figures, "by_severity": {str(severity): alarms for severity, alarms in counted.by_severity.items()}}


def _mark(alarm: Raised, labels: dict[int, str]) -> MarkOut:
    return MarkOut(
        subject_id=alarm.subject,
        label=labels.get(alarm.subject, "gone"),
        raised_at=alarm.raised_at,
        cleared_at=alarm.cleared_at,
        severity=alarm.severity,
        value=alarm.value,
    )


class BandOut(Schema):
    """What was normal at each time, and the values between which each level (by its severity) would have been left."""

    usual: list[float | None]
    severity: list[int]
    low: list[list[float | None]]
    high: list[list[float | None]]


class LineOut(Schema):
    """What the rule compares at one subject, by seconds of the epoch, and the alarms that follow from it."""

    label: str
    unit: str
    at: list[float]
    value: list[float | None]
    alarms: list[MarkOut]
    band: BandOut | None


@router.post("/rules/rehearsal/line", needs=VIEWER, response=LineOut)
def rehearse_line(request: HttpRequest, body: LineIn) -> LineOut:
    """The same at one subject, as a line."""
    with refusing():
        rule = _core(body)
        if body.subject_id not in rehearsals.subjects_of(rule.subject, body.scope):
            raise Refusal("This is not among what the rule applies to.", "subject_id")
        end = timezone.now()
        own = exceptions.own_levels(body.rule_id, rule.measure)
        line = rehearsals.line_of(rule, body.subject_id, end - timedelta(days=body.days), end, _normals(body), own)
    labels = labels_of(rule.subject, {body.subject_id})
    return LineOut(
        label=labels.get(body.subject_id, "gone"),
        unit=compared(rule.measure, rule.statistic, rule.window_s)[1],
        at=line.at,
        value=line.value,
        alarms=[_mark(alarm, labels) for alarm in line.alarms],
        band=BandOut(**asdict(line.band)) if line.band else None,
    )


class NoisyAlarmOut(Schema):
    """A subject with many alarms of a rule: how many, and how many of them were of use."""

    alarm: int
    label: str
    alarms: int
    of_use: int


class RuleReportOut(Schema):
    """What a rule did: how often it fired, how often that was of use (acknowledged, commented on or closed), what would help."""

    alarms: int
    of_use: int
    messages: int
    median_s: float
    noisiest: list[NoisyAlarmOut]
    proposals: list[str]


@router.get("/rules/{int:rule}/report", needs=VIEWER.everywhere, response=RuleReportOut)
def report(request: HttpRequest, rule: int, days: float = 28) -> RuleReportOut:
    """What a rule did in the last days."""
    with refusing():
        if not 0 < days <= MOST_REPORTED_DAYS:
            raise Refusal(f"A report goes over at most {MOST_REPORTED_DAYS} days.", "days")
    end = timezone.now()
    done = rule_report.of_rule(Rule.objects.get(pk=rule).pk, end - timedelta(days=days), end)
    return RuleReportOut(
        noisiest=[
            NoisyAlarmOut(alarm=alarm, label=label, alarms=alarms, of_use=of_use)
            for alarm, label, alarms, of_use in done.noisiest
        ],
        **{name: getattr(done, name) for name in ("alarms", "of_use", "messages", "median_s", "proposals")},
    )


class FormulaIn(Schema):
    """A measure, or a formula of measures, and maybe a subject to compute it for."""

    measure: str = Field(max_length=400)
    subject_id: int | None = None


class FormulaOut(Schema):
    """What a formula gives: its unit and kind of subject, and the newest value of one subject (the first, if none is given)."""

    measure: str
    unit: str
    subject: str
    label: str
    value: float | None


@router.post("/rules/formula", needs=ENGINEER, response=FormulaOut)
def try_formula(request: HttpRequest, body: FormulaIn) -> FormulaOut:
    """What a formula means and gives now; nothing is kept."""
    with refusing():
        measure = measure_of(body.measure)
        subjects = [body.subject_id] if body.subject_id is not None else rehearsals.subjects_of(measure.subject)[:1]
        newest = rehearsals.newest(measure.name, subjects[0], timezone.now()) if subjects else None
    labels = labels_of(measure.subject, set(subjects))
    return FormulaOut(
        measure=measure.name, unit=measure.unit, subject=measure.subject,
        label=labels.get(subjects[0], "gone") if subjects else "", value=newest,
    )  # fmt: skip


class MatchIn(Schema):
    """A condition over a kind of subject: interface, device or component."""

    kind: str
    scope: str = Field("", max_length=1000)


class MatchedOut(Schema):
    """A subject for which a condition holds."""

    device: str
    label: str


class MatchOut(Schema):
    """How many subjects a condition holds for, and the first of them."""

    subjects: int
    examples: list[MatchedOut]


@router.post("/rules/match", needs=ENGINEER, response=MatchOut)
def match(request: HttpRequest, body: MatchIn) -> MatchOut:
    """For which subjects a condition holds now; nothing is kept."""
    with refusing():
        if body.kind not in asking.KINDS:
            raise Refusal(f"There is no kind of subject {body.kind}; there are {', '.join(asking.KINDS)}.", "kind")
        subjects, examples = asking.preview(body.kind, body.scope)
    return MatchOut(subjects=subjects, examples=[MatchedOut(device=device, label=label) for device, label in examples])


class ToleranceIn(RuleIn):
    """A rule with a reference, and how many alarms a week and subject are wanted of each of its levels."""

    days: float = Field(14, gt=0, le=rehearsals.LONGEST_DAYS)
    a_week: list[float] = Field(max_length=5)


class ToleranceOut(Schema):
    """A limit for each level; null where nothing is known yet."""

    limits: list[float | None]


@router.post("/rules/tolerance", needs=ENGINEER, response=ToleranceOut)
def propose_tolerance(request: HttpRequest, body: ToleranceIn) -> ToleranceOut:
    """Limits that would have been exceeded about so many times a week and subject, from stored history."""
    with refusing():
        rule, end = _core(body), timezone.now()
        subjects = rehearsals.subjects_of(rule.subject, body.scope)
        limits = learning.tolerances(rule, subjects, end - timedelta(days=body.days), end, body.a_week, body.without)
    return ToleranceOut(limits=limits)
