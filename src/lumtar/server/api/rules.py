"""Rules: what is watched, and what a rule would have done."""

from dataclasses import asdict
from datetime import datetime, timedelta
from functools import partial
from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Status
from pydantic import Field

from lumtar.core.alarms.severity import Severity
from lumtar.core.alarms.wording import compared
from lumtar.core.measures import MEASURES, known_measure, measure_of
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Direction, Figures, Raised, Reference, ready
from lumtar.core.rules import Rule as CoreRule
from lumtar.core.rules.baseline import UNITS, WORDS
from lumtar.core.rules.statistics import STATISTICS
from lumtar.domain.alarms import rules
from lumtar.domain.alarms.models import Rule
from lumtar.domain.calling import plans
from lumtar.domain.inventory import asking
from lumtar.domain.operation import resources
from lumtar.domain.reports import learning, rehearsals, rule_report
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.conditions import ConditionField, fields_out
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["rules"])
MOST_REPORTED_DAYS = 400
MARKS = 2000
"""Alarms of a rehearsal that are listed one by one."""


class LevelIO(Schema):
    """A severity (1 to 5), the limit beyond which it is reached, and the clearing limit; of a range also the lower ones."""

    severity: int
    limit: float
    clear: float
    low: float | None = None
    low_clear: float | None = None


class RuleIn(Schema):
    """A rule: a statistic of a measure with its limits.

    A limit must be exceeded for ``hold_s`` seconds, or ``times`` of the last ``of`` values. A statistic other than "value" looks
    back over ``window_s`` seconds. ``scope`` is a condition over the measure's kind of subject; empty is all of them. With a
    ``reference`` limits say how far from normal a value is, and ``without`` are days from which nothing is learned.
    """

    name: str = Field(max_length=120)
    measure: str
    statistic: str = "value"
    window_s: int = Field(0, ge=0)
    scope: str = Field("", max_length=1000)
    enabled: bool = True
    direction: Direction = Direction.ABOVE
    reference: Reference = Reference.NONE
    without: list[str] = []
    hours: str = Field("", max_length=300)
    zone: str = "UTC"
    levels: list[LevelIO] = []
    hold_s: int = Field(0, ge=0)
    times: int = 1
    of: int = 1
    raise_text: str = Field("", max_length=400)
    clear_text: str = Field("", max_length=400)
    instructions: str = Field("", max_length=2000)
    plan_id: int | None = None


class ExceptionOut(Schema):
    """A subject with levels of its own; without any it is exempt."""

    subject: int
    label: str
    levels: list[LevelIO]
    reason: str
    by: str
    at: datetime


class RuleOut(Schema):
    """A rule. ``words``, ``unit`` and ``subject`` are those of what it compares; the rule about Lumtar itself has no levels."""

    id: int
    name: str
    measure: str
    statistic: str
    window_s: int
    words: str
    unit: str
    subject: str
    enabled: bool
    scope: str
    direction: str
    reference: str
    without: list[str]
    hours: str
    zone: str
    levels: list[LevelIO]
    hold_s: int
    times: int
    of: int
    raise_text: str
    clear_text: str
    instructions: str
    plan_id: int | None
    plan: str | None
    revision: int
    exceptions: list[ExceptionOut]


class RuleChange(Schema):
    """What is to be changed of a rule; what is left out stays."""

    name: str | None = Field(None, max_length=120)
    measure: str | None = None
    statistic: str | None = None
    window_s: int | None = Field(None, ge=0)
    enabled: bool | None = None
    scope: str | None = Field(None, max_length=1000)
    direction: Direction | None = None
    reference: Reference | None = None
    without: list[str] | None = None
    hours: str | None = Field(None, max_length=300)
    zone: str | None = None
    levels: list[LevelIO] | None = None
    hold_s: int | None = Field(None, ge=0)
    times: int | None = None
    of: int | None = None
    raise_text: str | None = Field(None, max_length=400)
    clear_text: str | None = Field(None, max_length=400)
    instructions: str | None = Field(None, max_length=2000)
    plan_id: int | None = None


OWN = tuple(
    name
    for name in RuleOut.model_fields
    if name not in ("id", "words", "unit", "subject", "levels", "plan", "exceptions")
)


def _rule(rule: Rule) -> RuleOut:
    measure = known_measure(rule.measure)
    words, unit = compared(rule.measure, rule.statistic, rule.window_s) if measure else ("Lumtar itself", "")
    unit = UNITS.get(Reference(rule.reference), unit)
    exceptions = list(rule.exceptions.all())
    labels = _labels(measure.subject, {each.subject for each in exceptions}) if measure else {}
    return RuleOut(
        id=rule.pk,
        words=words,
        unit=unit,
        subject=measure.subject if measure else resources.LUMTAR,
        levels=[LevelIO(**level) for level in rule.levels],
        plan=rule.plan.name if rule.plan else None,
        exceptions=[
            ExceptionOut(
                label=labels.get(each.subject, "gone"),
                levels=[LevelIO(**level) for level in each.levels],
                **{name: getattr(each, name) for name in ("subject", "reason", "by", "at")},
            )
            for each in exceptions
        ],
        **{name: getattr(rule, name) for name in OWN},
    )


@router.get("/rules", needs=VIEWER, response=list[RuleOut])
def list_rules(request: HttpRequest, interface: int | None = None, device: int | None = None) -> list[RuleOut]:
    """All rules, or those in force that apply to a port, or to a device and its components."""
    every = interface is None and device is None
    listed = (
        list(Rule.objects.select_related("plan").prefetch_related("exceptions").order_by("pk"))
        if every
        else rules.applying(interface, device)
    )
    return [_rule(rule) for rule in listed]


@router.post("/rules", needs=ENGINEER.everywhere, response={201: RuleOut})
def make_rule(request: HttpRequest, body: RuleIn) -> Status[RuleOut]:
    """Create a rule; the collector follows within seconds."""
    with refusing():
        return Status(201, _rule(rules.create(body.model_dump(), request.user.get_username())))


def _given(body: RuleChange) -> dict[str, Any]:
    """What is to be changed; a plan that is null calls nobody, anything else that is null stays."""
    given = body.model_dump(exclude_unset=True)
    return {name: value for name, value in given.items() if value is not None or name == "plan_id"}


@router.patch("/rules/{int:rule}", needs=ENGINEER.everywhere, response=RuleOut)
def change_rule(request: HttpRequest, rule: int, body: RuleChange) -> RuleOut:
    """Change a rule; the collector follows within seconds. One that is switched off clears what it raised."""
    with refusing():
        try:
            return _rule(rules.change(rule, _given(body), request.user.get_username()))
        except Rule.DoesNotExist as error:
            raise Problem(404, "There is no such rule.") from error


@router.delete("/rules/{int:rule}", needs=ENGINEER.everywhere, response={204: None})
def delete_rule(request: HttpRequest, rule: int) -> Status[None]:
    """Delete a rule; what it raised is cleared."""
    with refusing():
        try:
            rules.delete(rule, request.user.get_username())
        except Rule.DoesNotExist as error:
            raise Problem(404, "There is no such rule.") from error
    return Status(204, None)


class Tested(Schema):
    """To how many addresses a test goes."""

    addresses: int


@router.post("/rules/{int:rule}/test", needs=ENGINEER.everywhere, response=Tested)
def send_test(request: HttpRequest, rule: int) -> Tested:
    """Raise and clear a test alarm for those whom the rule calls first, on the way that real ones take."""
    with refusing():
        try:
            return Tested(addresses=rules.send_test(rule, request.user.get_username()))
        except Rule.DoesNotExist as error:
            raise Problem(404, "There is no such rule.") from error


class MeasureOut(Schema):
    """A measure that a rule can watch."""

    name: str
    words: str
    unit: str
    subject: str


class StatisticOut(Schema):
    """A statistic of a measure; ``{unit}`` in its unit stands for the measure's."""

    name: str
    words: str
    unit: str
    has_window: bool


class ReferenceOut(Schema):
    """What values can be compared with before they are held against a limit, and the unit of limits then."""

    name: str
    words: str
    unit: str


class ReadyLevelOut(LevelIO):
    """A recommended level, and why its limit is where it is."""

    why: str


class ReadyOut(Schema):
    """A recommended rule. ``is_there`` if there is a rule of its name."""

    name: str
    why: str
    measure: str
    statistic: str
    window_s: int
    scope: str
    direction: str
    levels: list[ReadyLevelOut]
    hold_s: int
    times: int
    of: int
    is_there: bool


class Vocabulary(Schema):
    """What rules are made of."""

    measures: list[MeasureOut]
    statistics: list[StatisticOut]
    references: list[ReferenceOut]
    fields: dict[str, list[ConditionField]]
    """Kind of subject -> what a condition can ask of it."""
    text_variables: dict[str, str]
    ready: list[ReadyOut]


@router.get("/rules/vocabulary", needs=VIEWER, response=Vocabulary)
def vocabulary(request: HttpRequest) -> Vocabulary:
    """Measures and statistics that rules can be made of, and recommended rules."""
    there = set(Rule.objects.values_list("name", flat=True))
    return Vocabulary(
        measures=[MeasureOut(name=m.name, words=m.words, unit=m.unit, subject=m.subject) for m in MEASURES.values()],
        statistics=[
            StatisticOut(name=s.name, words=s.words, unit=s.unit, has_window=s.has_window) for s in STATISTICS.values()
        ],
        references=[ReferenceOut(name=each, words=WORDS[each], unit=UNITS[each]) for each in WORDS],
        fields={kind: fields_out(known.fields) for kind, known in asking.KINDS.items()},
        text_variables=rules.EXAMPLE,
        ready=[_ready(each, each.name in there) for each in ready.READY],
    )


def _ready(each: ready.Ready, is_there: bool) -> ReadyOut:
    names = ("name", "why", "measure", "statistic", "window_s", "scope", "direction")
    return ReadyOut(
        levels=[
            ReadyLevelOut(severity=int(level.severity), limit=level.limit, clear=level.clear, why=why)
            for level, why in zip(each.levels, each.reasons, strict=True)
        ],
        hold_s=each.hold.seconds,
        times=each.hold.times,
        of=each.hold.of,
        is_there=is_there,
        **{name: getattr(each, name) for name in names},
    )


class RehearsalIn(RuleIn):
    """A rule that is not kept, and the days until now to go through."""

    days: float = Field(7, gt=0, le=rehearsals.LONGEST_DAYS)


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
        rule = _core(body)
        end = timezone.now()
        subjects = rehearsals.subjects_of(rule.subject, body.scope)
        done = rehearsals.run(rule, subjects, end - timedelta(days=body.days), end, _normals(body))
    listed, counted = done.alarms[:MARKS], done.figures
    wanted = {alarm.subject for alarm in listed} | {subject for subject, _, _ in counted.noisiest}
    labels = _labels(rule.subject, wanted)
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


def _labels(kind: str, subjects: set[int]) -> dict[int, str]:
    named = resources.named({(kind, subject) for subject in subjects})
    return {number: each.label for (_, number), each in named.items()}


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
        line = rehearsals.line_of(rule, body.subject_id, end - timedelta(days=body.days), end, _normals(body))
    labels = _labels(rule.subject, {body.subject_id})
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
    labels = _labels(measure.subject, set(subjects))
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


class ExceptionIn(Schema):
    """Levels of one subject; none exempts it."""

    levels: list[LevelIO] = Field([], max_length=5)
    reason: str = Field("", max_length=300)


@router.put("/rules/{int:rule}/exceptions/{int:subject}", needs=ENGINEER.everywhere, response=RuleOut)
def make_exception(request: HttpRequest, rule: int, subject: int, body: ExceptionIn) -> RuleOut:
    """Give one subject of a rule levels of its own, or exempt it."""
    with refusing():
        levels = [level.model_dump() for level in body.levels]
        rules.except_from(rule, subject, levels, body.reason, request.user.get_username())
    return _rule(Rule.objects.get(pk=rule))


@router.delete("/rules/{int:rule}/exceptions/{int:subject}", needs=ENGINEER.everywhere, response={204: None})
def end_exception(request: HttpRequest, rule: int, subject: int) -> Status[None]:
    """End an exception; the rule holds as for all others."""
    rules.end_exception(rule, subject, request.user.get_username())
    return Status(204, None)
