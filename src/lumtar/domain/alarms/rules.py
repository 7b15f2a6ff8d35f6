"""Rules: what they are for the evaluator, and changing them."""

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from lumtar.core import rules as core
from lumtar.core.alarms.facts import Ended, Said
from lumtar.core.alarms.severity import Severity
from lumtar.core.conditions import understand
from lumtar.core.groups import GROUP_FIELDS
from lumtar.core.measures import MEASURES
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Hold, Level
from lumtar.core.units import duration
from lumtar.domain.alarms.models import LUMTAR, Notification, Rule
from lumtar.domain.alarms.services import Transition, apply, clear
from lumtar.domain.inventory.groups import holds_for, slowest_for
from lumtar.domain.inventory.models import Device
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation import resources
from lumtar.domain.operation.services import announce

WATCHED = ("measure", "statistic", "window_s", "scope", "above", "levels", "hold_s", "times", "of")
"""What of a rule decides; a change of any makes another revision."""


def as_core(rule: Rule) -> core.Rule:
    """A rule as the evaluator takes it; one that is not kept yet has the number 0.

    Raises
    ------
    Refusal
    """
    levels = tuple(_level(each) for each in rule.levels)
    hold = Hold(rule.hold_s, rule.times, rule.of)
    return core.Rule(
        rule.pk or 0, rule.measure, levels, hold, rule.above, rule.statistic, rule.revision, rule.armed, rule.window_s
    )


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


def applying(interface: int | None = None, device: int | None = None) -> list[Rule]:
    """The rules in force that apply to a port, or to a device and its components."""
    rules = in_force()
    if interface is None:
        return [rule for rule in rules if device is not None and MEASURES[rule.measure].subject != "interface"]
    mine = [rule for rule in rules if MEASURES[rule.measure].subject == "interface"]
    return [rule for rule in mine if not rule.scope or holds_for(rule.scope, interface)]


@transaction.atomic
def create(wanted: Mapping[str, Any], by: str) -> Rule:
    """A new rule, from columns of Rule by name.

    Raises
    ------
    Refusal
    """
    rule = Rule(**wanted)
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
    check(rule)
    changed = {name for name in before if before[name] != getattr(rule, name)}
    if changed & {"enabled", *WATCHED}:
        rule.revision += 1
    ends = before["enabled"] and not rule.enabled
    moves = bool(changed & {"measure", "statistic", "window_s", "above"})
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
    understand(rule.scope, GROUP_FIELDS)
    if rule.scope and watched.subject != "interface":
        raise Refusal("Only rules about interfaces can be narrowed by a condition.", "scope")
    _check_window(rule, watched.subject)
    return watched


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
    if subject == "interface":
        slowest = slowest_for(rule.scope)
    else:
        devices = Device.objects.filter(retired_at=None, enabled=True).order_by("-interval_s", "name")
        slowest = devices.values_list("name", "interval_s").first()
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
