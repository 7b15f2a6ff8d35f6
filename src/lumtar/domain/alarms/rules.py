"""Rules: what they are for the evaluator, and changing them."""

from collections.abc import Mapping
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from lumtar.core import rules as core
from lumtar.core.alarms.severity import Severity
from lumtar.core.conditions import understand
from lumtar.core.groups import GROUP_FIELDS
from lumtar.core.measures import MEASURES
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Hold, Level
from lumtar.domain.alarms.models import LUMTAR, Rule
from lumtar.domain.alarms.services import clear
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce

WATCHED = ("measure", "statistic", "scope", "above", "levels", "hold_s", "times", "of")
"""What of a rule decides; a change of any makes another revision."""


def as_core(rule: Rule) -> core.Rule:
    """A rule as the evaluator takes it.

    Raises
    ------
    Refusal
    """
    levels = tuple(_level(each) for each in rule.levels)
    hold = Hold(rule.hold_s, rule.times, rule.of)
    return core.Rule(rule.pk, rule.measure, levels, hold, rule.above, rule.statistic, rule.revision, rule.armed)


def _level(given: Mapping[str, Any]) -> Level:
    try:
        return Level(Severity(given["severity"]), float(given["limit"]), float(given["clear"]))
    except (KeyError, TypeError, ValueError) as error:
        raise Refusal(
            "A level has a severity from 1 (indeterminate) to 5 (critical), a limit and a clearing limit.", "levels"
        ) from error


def in_force() -> list[Rule]:
    """The rules that the evaluator decides by."""
    return [rule for rule in Rule.objects.filter(enabled=True).order_by("pk") if rule.measure in MEASURES]


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
    check(rule)
    changed = {name for name in before if before[name] != getattr(rule, name)}
    if changed & {"enabled", *WATCHED}:
        rule.revision += 1
    ends = before["enabled"] and not rule.enabled
    moves = bool(changed & {"measure", "statistic", "above"})
    if rule.enabled and ("enabled" in changed or moves):
        rule.armed += 1
    rule.save()
    if ends or moves:
        reason = (
            f"The rule {rule.name} was switched off" if ends else f"The rule {rule.name} watches something else now"
        )
        _end(rule, reason)
    changes = ", ".join(f"{name} {_said(value)}" for name, value in wanted.items())
    note_action(f"rule {rule.name} changed: {changes}", by)
    announce("rules")
    return rule


def _end(rule: Rule, reason: str) -> None:
    """Clear what a rule raised, and tell those who were told."""
    if changed := clear(Q(rule=rule), reason, timezone.now(), tell=True):
        announce("alarms", changed)


def check(rule: Rule) -> None:
    """Whether a rule makes sense.

    Raises
    ------
    Refusal
    """
    if rule.measure == LUMTAR:
        if rule.levels or rule.scope:
            raise Refusal("What Lumtar does not do has a severity of its own; there are no levels to set.", "levels")
    else:
        watched = as_core(rule)
        understand(rule.scope, GROUP_FIELDS)
        if rule.scope and watched.subject != "interface":
            raise Refusal("Only rules about interfaces can be narrowed by a condition.", "scope")
    try:
        rule.full_clean()
    except ValidationError as error:
        raise Refusal(" ".join(error.messages), next(iter(getattr(error, "message_dict", {})), "")) from error


def _said(value: Any) -> str:
    if isinstance(value, list):
        return "; ".join(_said(each) for each in value) or "none"
    if isinstance(value, dict):
        return " ".join(f"{name} {each}" for name, each in value.items())
    return str(value)
