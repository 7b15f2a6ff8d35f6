"""Exceptions of rules, and which subjects each rule applies to in the end."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from django.db import transaction
from django.utils import timezone

from lumtar.core import rules as core
from lumtar.core.measures import measure_of
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Level
from lumtar.domain.alarms.models import LUMTAR, Rule, RuleException
from lumtar.domain.alarms.rules import as_core, level_of
from lumtar.domain.inventory.asking import subjects_for
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation import resources
from lumtar.domain.operation.services import announce

OWN_LEVELS = 32
"""A rule with the levels of an exception has the number of the exception above so many bits, and the rule's own beneath."""


def rule_number(key: int) -> int:
    """The number of the rule that a key of the evaluator stands for."""
    return key & (1 << OWN_LEVELS) - 1


def variants(rule: Rule) -> list[core.Rule]:
    """A rule as the evaluator takes it, and once more for each exception that has levels of its own.

    Raises
    ------
    Refusal
    """
    watched = as_core(rule)
    found = [watched]
    for exception in rule.exceptions.all():
        if exception.levels:
            key = exception.pk << OWN_LEVELS | watched.key
            found.append(replace(watched, key=key, levels=tuple(level_of(each) for each in exception.levels)))
    return found


def own_levels(rule: int | None, measure: str) -> dict[int, list[Level]]:
    """The subjects of a kept rule with levels of their own, none where they are exempt; no such if it measures something else now."""
    exceptions = RuleException.objects.filter(rule=rule, rule__measure=measure) if rule is not None else ()
    return {each.subject: [level_of(level) for level in each.levels] for each in exceptions}


@dataclass(frozen=True, slots=True)
class Applies:
    """Which subjects a rule applies to: ``only`` these (None: all) but not those."""

    only: frozenset[int] | None = None
    but: frozenset[int] = frozenset()


def narrowed(rules: Collection[Rule]) -> dict[int, Applies]:
    """By key, which subjects rules apply to, of those that do not apply to everything."""
    found: dict[int, Applies] = {}
    for rule in rules:
        only = frozenset(subjects_for(measure_of(rule.measure).subject, rule.scope)) if rule.scope else None
        exceptions = {each.subject: each for each in rule.exceptions.all()}
        if only is not None or exceptions:
            found[rule.pk] = Applies(only, frozenset(exceptions))
        for subject, each in exceptions.items():
            if each.levels:
                mine = frozenset({subject}) if only is None or subject in only else frozenset()
                found[each.pk << OWN_LEVELS | rule.pk] = Applies(mine)
    return found


@transaction.atomic
def except_from(pk: int, subject: int, levels: Sequence[Mapping[str, Any]], reason: str, by: str) -> RuleException:
    """Give one subject of a rule levels of its own; without any it is exempt.

    Raises
    ------
    Refusal, Rule.DoesNotExist
    """
    rule = Rule.objects.select_for_update().get(pk=pk)
    if rule.measure == LUMTAR:
        raise Refusal("The rule about Lumtar itself has no exceptions.")
    kind = measure_of(rule.measure).subject
    if (kind, subject) not in resources.named({(kind, subject)}):
        raise Refusal(f"There is no {kind} {subject}; it may have been deleted meanwhile.", "subject")
    if levels:
        replace(as_core(rule), levels=tuple(level_of(each) for each in levels))
    exception, _ = RuleException.objects.update_or_create(
        rule=rule,
        subject=subject,
        defaults={"levels": list(levels), "reason": reason.strip()[:300], "by": by[:150], "at": timezone.now()},
    )
    _note_exception(rule, "made", by)
    return exception


@transaction.atomic
def end_exception(pk: int, subject: int, by: str) -> None:
    """The rule holds for a subject again as for all others.

    Raises
    ------
    Rule.DoesNotExist, RuleException.DoesNotExist
    """
    rule = Rule.objects.select_for_update().get(pk=pk)
    RuleException.objects.get(rule=rule, subject=subject).delete()
    _note_exception(rule, "ended", by)


def _note_exception(rule: Rule, done: str, by: str) -> None:
    # Another revision, so that collectors look at the exceptions again; what was counted starts anew.
    rule.revision += 1
    rule.save(update_fields=["revision"])
    note_action(f"exception from the rule {rule.name} {done}", by)
    announce("rules")
