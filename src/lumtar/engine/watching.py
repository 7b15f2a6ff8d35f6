"""The rules in force over what polls give: a memory for each kind of subject, and transitions of alarms for a batch."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import structlog
from numpy.typing import NDArray

from lumtar.core.alarms.facts import Ended, exceeded, returned
from lumtar.core.alarms.severity import Severity
from lumtar.core.counters import VOID
from lumtar.core.measures import MEASURES, known_measure, measure_of
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Baselines, Events, Frame, Memory, Pairs, RuleSet, evaluate
from lumtar.core.rules import Rule as CoreRule
from lumtar.core.slots import Slots
from lumtar.domain.alarms import baselines
from lumtar.domain.alarms.exceptions import Applies, rule_number, variants
from lumtar.domain.alarms.models import Rule, alarm_type
from lumtar.domain.alarms.rules import with_own_text
from lumtar.domain.alarms.services import Transition
from lumtar.domain.reports.frames import of_measure
from lumtar.engine.batch import Batch, moment

log = structlog.get_logger()
Numbers = NDArray[np.int64]
Scopes = Mapping[int, Applies]
"""By key, of the rules that are narrowed, which subjects they apply to."""


EVERYTHING = Applies()


@dataclass(slots=True)
class Subjects:
    """The subjects of one kind: their rules, what is remembered of them, and where."""

    memory: Memory = field(default_factory=lambda: Memory.blank(RuleSet(())))
    slots: Slots = field(default_factory=Slots)
    slot_of: dict[int, int] = field(default_factory=dict)

    @property
    def rules(self) -> RuleSet:
        """The rules about this kind."""
        return self.memory.rules

    def put(self, slots: Numbers, numbers: Numbers, owners: Numbers, scopes: Scopes) -> None:
        """These subjects are at these places now."""
        room = int(slots.max(initial=-1)) + 1
        if room > self.memory.size:
            self.memory.grow(max(room, 2 * self.memory.size))
        self.memory.subject[slots], self.memory.owner[slots] = numbers, owners
        self.slot_of.update(zip(numbers.tolist(), slots.tolist(), strict=True))
        self.narrow(slots, scopes)

    def narrow(self, slots: Numbers, scopes: Scopes) -> None:
        """Work out anew which rules apply to which of these subjects."""
        for row, rule in enumerate(self.rules.rules):
            scope, subject = scopes.get(rule.key, EVERYTHING), self.memory.subject[slots]
            applies = np.ones(len(slots), np.bool_)
            if scope.only is not None:
                applies &= np.isin(subject, list(scope.only))
            if scope.but:
                applies &= ~np.isin(subject, list(scope.but))
            self.memory.applies[row, slots] = applies

    def places(self, numbers: Numbers, owners: Numbers, scopes: Scopes) -> Numbers:
        """Where these subjects are; new ones get a place."""
        new = np.array([place for place, number in enumerate(numbers.tolist()) if number not in self.slot_of], int)
        if len(new):
            self.put(self.slots.take(len(new)), numbers[new], owners[new], scopes)
        return np.array([self.slot_of[number] for number in numbers.tolist()], np.int64)

    def drop(self, slots: Numbers) -> None:
        """These subjects are not there any more."""
        for number in self.memory.subject[slots].tolist():
            self.slot_of.pop(number, None)
        self.memory.forget(slots)


class Watch:
    """Rules over the frames of each kind of subject."""

    def __init__(self, rules: Sequence[Rule] = ()) -> None:
        self._rules: dict[int, Rule] = {}
        self._scopes: dict[int, Applies] = {}
        self.kinds: dict[str, Subjects] = {name: Subjects() for name in sorted({m.subject for m in MEASURES.values()})}
        self.renew(rules)

    def renew(self, rules: Sequence[Rule], scopes: Scopes | None = None) -> None:
        """Take changed rules over. One that stays keeps its alarms, and if it is unchanged what it counted."""
        self._rules = {rule.pk: rule for rule in rules if rule.enabled and known_measure(rule.measure)}
        moved, self._scopes = (scopes or {}) != self._scopes, dict(scopes or {})
        understood = []
        for rule in self._rules.values():
            try:
                understood += variants(rule)
            except Refusal as error:
                # It was kept by other means than the screens; the others must not suffer from it.
                log.error("a rule makes no sense and is left out", rule=rule.name, error=str(error))
        for name, subjects in self.kinds.items():
            rules_of_kind = RuleSet(tuple(rule for rule in understood if rule.subject == name))
            if rules_of_kind == subjects.rules and not moved:
                # Asked every few seconds: nearly always nothing has changed, and narrowing looks at every subject.
                continue
            if rules_of_kind != subjects.rules:
                subjects.memory = subjects.memory.followed_by(rules_of_kind)
            subjects.narrow(np.array(sorted(subjects.slot_of.values()), np.int64), self._scopes)

    def put(self, kind: str, slots: Numbers, numbers: Numbers, owners: Numbers) -> None:
        """Subjects that somebody else numbers are at these places now."""
        self.kinds[kind].put(slots, numbers, owners, self._scopes)

    def drop_device(self, device: int) -> None:
        """Forget a device and what belongs to it."""
        for subjects in self.kinds.values():
            gone = np.flatnonzero(subjects.memory.owner == device)
            subjects.drop(gone)
            if subjects.slots.size:
                subjects.slots.give_back(gone)

    def move_times(self, step: float) -> None:
        """The clock was set by so many seconds: all that is remembered was so much later or earlier by it."""
        for subjects in self.kinds.values():
            subjects.memory.move_times(step)

    def bring_back(
        self,
        kind: str,
        pairs: Pairs,
        active: Sequence[tuple[int, int, int]],
        last: Mapping[int, float],
        owner_of: Mapping[int, int],
    ) -> None:
        """Go on where another run left off.

        Parameters
        ----------
        pairs : what was counted
        active : alarms: rule, subject, severity
        last : subject -> seconds of the epoch of its last value
        owner_of : subject -> device, of the subjects that are there
        """
        subjects = self.kinds[kind]
        numbers = np.array(sorted(owner_of), np.int64)
        owners = np.array([owner_of[number] for number in numbers.tolist()], np.int64)
        slots = subjects.places(numbers, owners, self._scopes)
        memory = subjects.memory
        memory.known[:, slots] = [int(last.get(number, 0)) for number in numbers.tolist()]
        rows: dict[int, list[int]] = {}
        for row, each in enumerate(subjects.rules.rules):
            rows.setdefault(rule_number(each.key), []).append(row)
        for rule, subject, severity in active:
            if (slot := subjects.slot_of.get(subject)) is not None:
                # The rule itself, or what it is for a subject with levels of its own.
                mine = [row for row in rows.get(rule, ()) if memory.applies[row, slot]] or rows.get(rule, [])[:1]
                for row in mine:
                    memory.severity[row, slot] = severity
        memory.bring_back(pairs, subjects.slot_of)

    def recall(self, kind: str, numbers: Collection[int], at: float) -> None:
        """Read again what rules with a window look back at, of subjects that were brought back."""
        subjects = self.kinds[kind]
        known = list(numbers)
        for measure, seconds in subjects.rules.windows.items():
            history = of_measure(measure, known, moment(at - seconds), moment(at)) if known else None
            if history is not None:
                slots = np.array([subjects.slot_of[number] for number in history.subjects], np.int64)
                subjects.memory.recall(replace(history.frame, slots=slots))

    def renew_baselines(self) -> None:
        """Read again what is normal for the subjects that are here."""
        for subjects in self.kinds.values():
            wanted, memory = subjects.rules.references, subjects.memory
            numbers = list(subjects.slot_of)
            for measure, reference in wanted:
                known, ranges = baselines.load(measure, reference, numbers)
                table = Baselines.blank(memory.size)
                slots = np.array([subjects.slot_of[number] for number in known], np.int64)
                table.median[slots], table.scale[slots], table.weeks[slots] = ranges.median, ranges.scale, ranges.weeks
                memory.baselines[measure, reference] = table

    def look(
        self,
        batch: Batch,
        kind: str,
        counted: Any,
        at: NDArray[np.float64],
        interval: NDArray[np.float64],
        *,
        flags: NDArray[np.int16] | None = None,
        slots: Numbers | None = None,
        numbers: Numbers | None = None,
        owners: Numbers | None = None,
    ) -> None:
        """Evaluate the rules about one kind and add what follows to a batch.

        Parameters
        ----------
        counted : what the kind's measures are computed from
        flags : bits of counters.Flag; where nothing was counted every value is missing, not zero
        slots : where the subjects are; or ``numbers`` and ``owners``, which are given a place
        """
        subjects = self.kinds[kind]
        if not subjects.rules.rules:
            return
        if slots is None:
            assert numbers is not None and owners is not None
            slots = subjects.places(numbers, owners, self._scopes)
        values = {name: measure_of(name).of(counted) for name in subjects.rules.measures}
        if flags is not None:
            is_void = (flags & np.int16(VOID)) != 0
            values = {name: np.where(is_void, np.nan, each) for name, each in values.items()}
        frame = Frame.of_instant(slots, at, interval, values, flags)
        events, subjects.memory = evaluate(subjects.rules, frame, subjects.memory)
        batch.transitions += self._transitions(kind, subjects, events, counted)
        if len(changed := subjects.memory.take_changes()):
            batch.memory[kind] = Pairs.joined([*([batch.memory[kind]] if kind in batch.memory else []), changed])

    def _transitions(self, kind: str, subjects: Subjects, events: Events, counted: Any) -> list[Transition]:
        transitions = []
        for number in range(len(events)):
            watched = subjects.rules.rules[events.rule[number]]
            slot, severity = events.slot[number], Severity(int(events.severity[number]))
            more = measure_of(watched.measure).facts(counted, int(events.column[number]))
            value, was = float(events.value[number]), int(events.was[number])
            rule = self._rules[rule_number(watched.key)]
            if watched.reference:
                more = {**more, **_normal(subjects.memory, watched, slot, float(events.at[number]), value, severity)}
            facts = exceeded(watched, severity, value, more) if severity else returned(watched, was, value, more)
            transitions.append(
                Transition(
                    kind=kind,
                    resource=int(subjects.memory.subject[slot]),
                    type=alarm_type(watched.measure),
                    qualifier=str(rule.pk),
                    severity=severity,
                    facts=with_own_text(
                        rule, replace(facts, rule=rule.pk) if not isinstance(facts, Ended) else facts, severity
                    ),
                    at=moment(float(events.at[number])),
                    device=int(subjects.memory.owner[slot]),
                    rule=rule.pk,
                    armed=watched.armed,
                    plan=rule.plan_id,
                )
            )
        return transitions


def _normal(memory: Memory, rule: CoreRule, slot: int, at: float, score: float, severity: Severity) -> dict[str, Any]:
    """What was measured and what would have been normal, for the sentence of an alarm about something unusual."""
    median, scale = memory.baselines[rule.measure, rule.reference].at(np.array([slot]), np.array([at]))
    normal, unit = float(median[0]), float(scale[0])
    limit = next((level.limit for level in rule.levels if level.severity == severity), rule.levels[0].limit)
    return {
        "measured": normal + score * unit,
        "normal": normal,
        "usual": [normal - abs(limit) * unit, normal + abs(limit) * unit],
    }
