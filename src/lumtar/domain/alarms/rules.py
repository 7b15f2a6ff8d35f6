"""Rules: what they are for the evaluator, and changing them."""

from collections.abc import Collection, Mapping
from dataclasses import replace
from datetime import date
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from lumtar.core import rules as core
from lumtar.core.alarms.facts import Ended, Exceeded, Facts, Returned, Said
from lumtar.core.alarms.severity import Severity
from lumtar.core.alarms.wording import compared
from lumtar.core.calling import Hours
from lumtar.core.conditions import understand
from lumtar.core.measures import is_formula, known_measure, measure_of
from lumtar.core.measures.links import BRIDGE, LINK
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Direction, Hold, Level, Reference
from lumtar.core.rules.baseline import UNITS
from lumtar.core.units import duration, figure
from lumtar.domain.alarms.models import LUMTAR, Notification, Rule
from lumtar.domain.alarms.services import Transition, apply, clear
from lumtar.domain.calling import templates
from lumtar.domain.inventory.asking import KINDS, slowest_for, subjects_for
from lumtar.domain.inventory.models import Component
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation import resources
from lumtar.domain.operation.services import announce

WATCHED = (
    "measure", "statistic", "window_s", "scope", "direction", "reference", "hours", "zone", "levels", "hold_s", "times", "of",
)  # fmt: skip
"""What of a rule decides; a change of any makes another revision."""


def as_core(rule: Rule) -> core.Rule:
    """A rule as the evaluator takes it; one that is not kept yet has the number 0.

    Raises
    ------
    Refusal
    """
    try:
        direction, reference = Direction(rule.direction), Reference(rule.reference)
    except ValueError as error:
        raise Refusal(
            f"The direction is {', '.join(Direction)}; the reference is {', '.join(Reference)[2:]} or none."
        ) from error
    return core.Rule(
        rule.pk or 0, rule.measure, tuple(level_of(each) for each in rule.levels), Hold(rule.hold_s, rule.times, rule.of),
        direction, rule.statistic, rule.revision, rule.armed, rule.window_s, reference, Hours.of(rule.hours, rule.zone),
    )  # fmt: skip


def level_of(given: Mapping[str, Any]) -> Level:
    """A level as it is kept.

    Raises
    ------
    Refusal
    """
    try:
        low, low_clear = given.get("low"), given.get("low_clear")
        return Level(
            Severity(given["severity"]), float(given["limit"]), float(given["clear"]),
            None if low is None else float(low), None if low_clear is None else float(low_clear),
        )  # fmt: skip
    except (KeyError, TypeError, ValueError) as error:
        raise Refusal(
            "A level has a severity from 1 (indeterminate) to 5 (critical), a limit and a clearing limit.", "levels"
        ) from error


def in_force() -> list[Rule]:
    """The rules that the evaluator decides by."""
    rules = Rule.objects.filter(enabled=True).select_related("plan").prefetch_related("exceptions").order_by("pk")
    return [rule for rule in rules if known_measure(rule.measure)]


def applying(interface: int | None = None, device: int | None = None) -> list[Rule]:
    """The rules in force that apply to a port, or to a device or any of its components; also those that it is exempt from."""
    of_kind: dict[str, Collection[int]] = {}
    if interface is not None:
        of_kind |= {"interface": [interface], LINK: [interface]}
    elif device is not None:
        components = Component.objects.filter(device_id=device, gone_at=None).values_list("pk", flat=True)
        of_kind |= {"device": [device], "component": list(components), BRIDGE: [device]}

    def is_meant(rule: Rule) -> bool:
        mine = of_kind.get(kind := measure_of(rule.measure).subject, ())
        return bool(mine) and (not rule.scope or bool(subjects_for(kind, rule.scope) & set(mine)))

    return [rule for rule in in_force() if is_meant(rule)]


@transaction.atomic
def create(wanted: Mapping[str, Any], by: str) -> Rule:
    """A new rule, from columns of Rule by name.

    Raises
    ------
    Refusal
    """
    rule = Rule(**wanted)
    rule.measure = _written(rule.measure)
    if rule.measure == LUMTAR:
        raise Refusal("There is one rule about Lumtar itself; change that one.", "measure")
    check(rule)
    rule.save()
    note_action(f"rule {rule.name} created", by)
    announce("rules")
    return rule


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a rule; what it raised is cleared, and stays in the history.

    Raises
    ------
    Refusal, Rule.DoesNotExist
    """
    rule = Rule.objects.select_for_update().get(pk=pk)
    if rule.measure == LUMTAR:
        raise Refusal("The rule about Lumtar itself can be switched off, not deleted.")
    _end(rule, f"The rule {rule.name} was deleted")
    rule.delete()
    note_action(f"rule {rule.name} deleted", by)
    announce("rules")


@transaction.atomic
def change(pk: int, wanted: Mapping[str, Any], by: str) -> Rule:
    """Change a rule. One that is switched off, or watches something else, clears what it raised.

    Parameters
    ----------
    wanted : columns of Rule, by name

    Raises
    ------
    Refusal, Rule.DoesNotExist
    """
    rule = Rule.objects.select_for_update().get(pk=pk)
    before = {name: getattr(rule, name) for name in ("enabled", *WATCHED)}
    for name, value in wanted.items():
        setattr(rule, name, value)
    rule.measure = _written(rule.measure)
    check(rule)
    changed = {name for name in before if before[name] != getattr(rule, name)}
    if changed & {"enabled", *WATCHED}:
        rule.revision += 1
    ends = before["enabled"] and not rule.enabled
    moves = bool(changed & {"measure", "statistic", "window_s", "direction", "reference"})
    if rule.enabled and ("enabled" in changed or moves):
        rule.armed += 1
    rule.save()
    if "measure" in changed:
        rule.exceptions.all().delete()
    if ends or moves:
        reason = (
            f"The rule {rule.name} was switched off" if ends else f"The rule {rule.name} watches something else now"
        )
        _end(rule, reason)
    changes = ", ".join(f"{name} {_said(value)}" for name, value in wanted.items())
    note_action(f"rule {rule.name} changed: {changes}", by)
    announce("rules")
    return rule


MOST_DAYS = 200


def _written(measure: str) -> str:
    """A formula as it is kept, whatever blanks it was typed with."""
    return measure_of(measure).name if is_formula(measure) else measure


TEST = "test"
"""The type of the alarm of Lumtar itself by which people try out who is notified."""


@transaction.atomic
def send_test(pk: int, by: str) -> int:
    """Raise and clear a test alarm for those whom a rule calls first, on the way that real ones take; how many addresses that are.

    Raises
    ------
    Refusal, Rule.DoesNotExist
    """
    rule = Rule.objects.get(pk=pk)
    if rule.plan_id is None:
        raise Refusal("This rule calls nobody: choose a call plan and save it first.", "plan")
    severity = Severity(max((level["severity"] for level in rule.levels), default=Severity.MAJOR))
    now, text = timezone.now(), f"Test of the rule {rule.name} by {by}: nothing is wrong"
    raised = Transition(resources.LUMTAR, 0, TEST, str(rule.pk), severity, Said(text), now, plan=rule.plan_id)
    (alarm,) = apply([raised, replace(raised, severity=Severity.CLEARED, facts=Ended("The test is over"))])
    note_action(f"rule {rule.name} tested", by)
    told = Notification.objects.filter(change__alarm_id=alarm, change__at=now, change__severity__gt=0)
    if not (addresses := told.count()):
        raise Refusal(
            f"The call plan {rule.plan} reaches nobody now: nobody is on duty, or there are no addresses.", "plan"
        )
    return addresses


def _end(rule: Rule, reason: str) -> None:
    """Clear what a rule raised, and tell those who were told."""
    if changed := clear(Q(rule=rule), reason, timezone.now(), tell=True):
        announce("alarms", changed)


def understood(rule: Rule) -> core.Rule:
    """A rule about the network as the evaluator takes it, once its condition and its window make sense as well.

    Raises
    ------
    Refusal
    """
    watched = as_core(rule)
    understand(rule.scope, KINDS[watched.subject].fields)
    if watched.subject in (LINK, BRIDGE) and (rule.window_s or watched.reference):
        raise Refusal(
            "Links and bridges are looked at once a minute as they are then; choose the value itself.", "statistic"
        )
    _check_window(rule, watched.subject)
    _check_texts(rule)
    _check_days(rule.without)
    return watched


def _check_texts(rule: Rule) -> None:
    """Whether the texts of a rule can be filled in, by trying it."""
    for text in (rule.raise_text, rule.clear_text):
        if text.strip():
            templates.fill(text, EXAMPLE)


EXAMPLE: dict[str, Any] = {
    "value": "93 %", "limit": "90 %", "measure": "Utilisation", "severity": "major", "rule": "Busy links", "was": "",
}  # fmt: skip
"""What the texts of a rule can use."""


def with_own_text(rule: Rule, facts: Facts, severity: Severity) -> Facts:
    """Facts with the sentence that the rule has of its own, if it has one and it can be filled in."""
    text = rule.raise_text if severity else rule.clear_text
    if not text.strip() or not isinstance(facts, Exceeded | Returned):
        return facts
    words, unit = compared(facts.measure, facts.statistic, facts.window_s)
    limit = facts.limit if isinstance(facts, Exceeded) else facts.clear
    value = facts.more.get("measured", facts.value)
    given = {
        "value": figure(value, unit), "limit": figure(limit, UNITS.get(Reference(facts.reference), unit)), "measure": words,
        "severity": severity.word, "rule": rule.name, "was": facts.more.get("reason", ""),
    }  # fmt: skip
    try:
        return replace(facts, own=templates.fill(text, given)[:500])
    except Refusal:
        # It was understood when it was kept; what it cannot say now is said by the standard sentence.
        return facts


def _check_days(days: Any) -> None:
    if not isinstance(days, list) or len(days) > MOST_DAYS:
        raise Refusal(f"At most {MOST_DAYS} days are left out.", "without")
    try:
        for each in days:
            date.fromisoformat(each)
    except (TypeError, ValueError) as error:
        raise Refusal("Days that are left out are written like 2026-12-24.", "without") from error


def check(rule: Rule) -> None:
    """Whether a rule can be kept.

    Raises
    ------
    Refusal
    """
    if rule.measure != LUMTAR:
        understood(rule)
    elif rule.levels or rule.scope:
        raise Refusal("What Lumtar does not do has a severity of its own; there are no levels to set.", "levels")
    try:
        rule.full_clean()
    except ValidationError as error:
        raise Refusal(" ".join(error.messages), next(iter(getattr(error, "message_dict", {})), "")) from error


def _check_window(rule: Rule, subject: str) -> None:
    """A window without two polls in it would be one value, or none."""
    if not rule.window_s:
        return
    slowest = slowest_for(subject, rule.scope)
    if slowest and slowest[1] > rule.window_s:
        name, interval_s = slowest
        raise Refusal(
            f"The window of {duration(rule.window_s)} is shorter than the interval of {duration(interval_s)} at which"
            f" {name} is polled; choose at least {duration(2 * interval_s)}.",
            "window_s",
        )


def _said(value: Any) -> str:
    if isinstance(value, list):
        return "; ".join(_said(each) for each in value) or "none"
    if isinstance(value, dict):
        return " ".join(f"{name} {each}" for name, each in value.items())
    return str(value)
