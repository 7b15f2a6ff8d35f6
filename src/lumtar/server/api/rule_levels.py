"""The levels of rules about what is shown, to stand beside its figures."""

from collections.abc import Collection

from lumtar.domain.alarms.rules import in_force
from lumtar.domain.inventory.asking import subjects_for
from lumtar.server.api.schema import Schema


class RuleLevel(Schema):
    """A level of a rule about a measure; ``direction`` says on which side of the limit it is worse."""

    rule_id: int
    rule: str
    severity: int
    measure: str
    direction: str
    limit: float


def levels_of(kind: str, measures: Collection[str]) -> dict[int, list[RuleLevel]]:
    """By subject of a kind the levels of rules about some measures, in the order of these and of limits; not of rules that compare with something."""
    found: dict[int, list[RuleLevel]] = {}
    for rule in in_force():
        if rule.measure not in measures or rule.reference:
            continue
        levels = [
            RuleLevel(
                rule_id=rule.pk, rule=rule.name, severity=each["severity"], measure=rule.measure, direction=rule.direction,
                limit=each["limit"],
            )
            for each in rule.levels
        ]  # fmt: skip
        for subject in subjects_for(kind, rule.scope):
            found.setdefault(subject, []).extend(levels)
    order = list(measures)
    for levels in found.values():
        levels.sort(key=lambda each: (order.index(each.measure), each.limit))
    return found
