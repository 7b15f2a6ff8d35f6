"""Rules: what is watched, exceptions from it, and what rules are made of."""

from datetime import datetime
from typing import Any

from django.http import HttpRequest
from ninja import Status
from pydantic import Field

from lumtar.core.alarms.wording import compared
from lumtar.core.measures import MEASURES, known_measure
from lumtar.core.rules import Direction, Reference, ready
from lumtar.core.rules.baseline import UNITS, WORDS
from lumtar.core.rules.ready_rule import Ready
from lumtar.core.rules.statistics import STATISTICS
from lumtar.domain.alarms import exceptions, rules
from lumtar.domain.alarms.models import Rule
from lumtar.domain.inventory import asking
from lumtar.domain.operation import resources
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.conditions import ConditionField, fields_out
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["rules"])


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
    labels = labels_of(measure.subject, {each.subject for each in exceptions}) if measure else {}
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


def _ready(each: Ready, is_there: bool) -> ReadyOut:
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


class ExceptionIn(Schema):
    """Levels of one subject; none exempts it."""

    levels: list[LevelIO] = Field([], max_length=5)
    reason: str = Field("", max_length=300)


@router.put("/rules/{int:rule}/exceptions/{int:subject}", needs=ENGINEER.everywhere, response=RuleOut)
def make_exception(request: HttpRequest, rule: int, subject: int, body: ExceptionIn) -> RuleOut:
    """Give one subject of a rule levels of its own, or exempt it."""
    with refusing():
        levels = [level.model_dump() for level in body.levels]
        exceptions.except_from(rule, subject, levels, body.reason, request.user.get_username())
    return _rule(Rule.objects.get(pk=rule))


@router.delete("/rules/{int:rule}/exceptions/{int:subject}", needs=ENGINEER.everywhere, response={204: None})
def end_exception(request: HttpRequest, rule: int, subject: int) -> Status[None]:
    """End an exception; the rule holds as for all others."""
    exceptions.end_exception(rule, subject, request.user.get_username())
    return Status(204, None)


def labels_of(kind: str, subjects: set[int]) -> dict[int, str]:
    """What subjects of a kind are called, by their numbers; those that are gone are left out."""
    named = resources.named({(kind, subject) for subject in subjects})
    return {number: each.label for (_, number), each in named.items()}
