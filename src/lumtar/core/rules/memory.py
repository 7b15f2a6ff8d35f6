"""What rules remember of their subjects from one value to the next."""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lumtar.core.rules.baseline import Baselines, Reference
from lumtar.core.rules.frame import Frame
from lumtar.core.rules.rule import Timing
from lumtar.core.rules.ruleset import RuleSet
from lumtar.core.rules.windows import MOST_VALUES, Ring


@dataclass(frozen=True, slots=True)
class Pairs:
    """What is remembered of p pairs of a rule and a subject, as it is kept beyond a restart.

    Attributes
    ----------
    rule, revision : (p,) number and revision of the rule
    owner : (p,) number of the device that the subject belongs to
    subject : (p,) number of the subject
    level : (p,) place of the level in its rule
    held : (p,) as in Memory; 0 forgets
    """

    rule: NDArray[np.int64]
    revision: NDArray[np.int64]
    owner: NDArray[np.int64]
    subject: NDArray[np.int64]
    level: NDArray[np.int64]
    held: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.rule)

    def rows(self) -> NDArray[np.int64]:
        """(p, 6), one pair a row, in the order of the attributes."""
        return np.column_stack([getattr(self, name) for name in self.__dataclass_fields__])

    @classmethod
    def of_rows(cls, rows: NDArray[np.int64]) -> "Pairs":
        """Pairs from what rows() gave."""
        return cls(*rows.reshape(-1, 6).T)

    def of_owners(self, owners: NDArray[np.int64]) -> "Pairs":
        """Only those of some devices."""
        return Pairs.of_rows(self.rows()[np.isin(self.owner, owners)])

    def newest(self) -> "Pairs":
        """Of several of one pair the last, without those that are forgotten."""
        rows = self.rows()[::-1]
        _, first = np.unique(rows[:, [0, 1, 3, 4]], axis=0, return_index=True)
        kept = rows[np.sort(first)][::-1]
        return Pairs.of_rows(kept[kept[:, 5] != 0])

    @classmethod
    def joined(cls, several: "list[Pairs]") -> "Pairs":
        """Several after one another."""
        return cls.of_rows(np.concatenate([np.zeros((0, 6), np.int64), *(each.rows() for each in several)]))


OF_SUBJECTS = ("severity", "held", "applies", "known", "active", "subject", "owner")
"""The arrays of a memory that have a column a subject."""


@dataclass(slots=True)
class Memory:
    """What r rules with up to l levels remember of s subjects; one array has a column a subject.

    Attributes
    ----------
    severity : (r, s) of the alarm that is active; 0 is none
    held : (r, l, s) length of the run, bits of the last values, or the second since when (see Timing); 0 is nothing
    applies : (r, s) whether the subject is in the rule's scope
    known : (g, s) for each group of rules, the second of the epoch of the last value
    active : (g, s) whether any rule of the group remembers anything of it
    subject, owner : (s,) number of the subject, and of the device that it belongs to
    changed : pairs whose ``held`` changed since they were taken last
    rings : by measure, the last values, for rules with a window
    baselines : by measure and reference, the normal range of each subject
    """

    rules: RuleSet
    severity: NDArray[np.int8]
    held: NDArray[np.uint32]
    applies: NDArray[np.bool_]
    known: NDArray[np.uint32]
    active: NDArray[np.bool_]
    subject: NDArray[np.int64]
    owner: NDArray[np.int64]
    changed: list[Pairs] = field(default_factory=list)
    rings: dict[str, Ring] = field(default_factory=dict)
    baselines: dict[tuple[str, Reference], Baselines] = field(default_factory=dict)

    @classmethod
    def blank(cls, rules: RuleSet, size: int = 0) -> "Memory":
        """Nothing is remembered of so many subjects."""
        r, g = len(rules.rules), len(rules.alike)
        return cls(
            rules,
            np.zeros((r, size), np.int8),
            np.zeros((r, rules.levels, size), np.uint32),
            np.ones((r, size), np.bool_),
            np.zeros((g, size), np.uint32),
            np.zeros((g, size), np.bool_),
            np.zeros(size, np.int64),
            np.zeros(size, np.int64),
        )

    @property
    def size(self) -> int:
        """Subjects that there is room for."""
        return len(self.subject)

    def grow(self, size: int) -> None:
        """Make room for so many subjects."""
        more = Memory.blank(self.rules, size - self.size)
        self.rings = {name: ring.resized(ring.depth, size) for name, ring in self.rings.items()}
        self.baselines = {key: normal.grown(size) for key, normal in self.baselines.items()}
        for name in OF_SUBJECTS:
            setattr(self, name, np.concatenate([getattr(self, name), getattr(more, name)], axis=-1))

    def forget(self, slots: NDArray[np.int64]) -> None:
        """Nothing is remembered of these any more; others may take their place."""
        blank = Memory.blank(self.rules, 1)
        for name in OF_SUBJECTS:
            getattr(self, name)[..., slots] = getattr(blank, name)
        for ring in self.rings.values():
            ring.forget(slots)
        for normal in self.baselines.values():
            normal.median[slots], normal.scale[slots], normal.weeks[slots] = np.nan, np.nan, 0

    def followed_by(self, rules: RuleSet) -> "Memory":
        """The memory of changed rules: a rule keeps the severity of its alarms, and if it is unchanged what it counted."""
        after = Memory.blank(rules, self.size)
        after.subject, after.owner = self.subject, self.owner
        rows = {(rule.key, rule.armed): row for row, rule in enumerate(self.rules.rules)}
        levels = min(self.rules.levels, rules.levels)
        for row, rule in enumerate(rules.rules):
            if (old := rows.get((rule.key, rule.armed))) is None:
                continue
            after.severity[row], after.applies[row] = self.severity[old], self.applies[old]
            if self.rules.rules[old] == rule:
                after.held[row, :levels] = self.held[old, :levels]
        # When the last value came is known of a group; a group of other rules takes the latest of what is known.
        if len(self.known) and len(after.known):
            after.known[:] = self.known.max(axis=0)
        after.note_active(np.arange(self.size))
        after.changed = self.changed
        after.rings = {name: ring for name, ring in self.rings.items() if name in rules.windows}
        after.baselines = {key: each for key, each in self.baselines.items() if key in rules.references}
        return after

    def note_values(self, frame: Frame, instant: int) -> None:
        """Remember the values of one instant that rules with a window look back at."""
        for name, seconds in self.rules.windows.items():
            if (values := frame.values.get(name)) is None:
                continue
            # Polls that somebody asks for, and those that confirm, come between: there is room for twice as many as are planned.
            depth = min(MOST_VALUES, 4 + int(2 * seconds / max(1.0, float(frame.interval.min(initial=60.0)))))
            ring = self.rings.get(name)
            if ring is None:
                ring = self.rings[name] = Ring.blank(depth, self.size)
            elif depth > ring.depth:
                ring = self.rings[name] = ring.resized(depth, self.size)
            # Subjects with fewer values than others have none at the end of a frame.
            there = frame.at[instant] > 0
            ring.put(frame.slots[there], frame.at[instant][there], values[instant][there])

    def recall(self, frame: Frame) -> None:
        """Remember values that were evaluated before a restart."""
        for instant in range(len(frame.at)):
            self.note_values(frame, instant)

    def move_times(self, step: float) -> None:
        """The clock was set by so many seconds: every time that is remembered was so much later or earlier by it."""
        seconds = np.int64(round(step))
        self.known = np.where(self.known > 0, np.maximum(1, self.known + seconds), 0).astype(np.uint32)
        for ring in self.rings.values():
            ring.move_times(int(seconds))
        for alike in self.rules.alike:
            if alike.timing is Timing.DURATION:
                since = self.held[alike.rows].astype(np.int64)
                self.held[alike.rows] = np.where(since > 0, np.maximum(1, since + seconds), 0)

    def note_active(self, slots: NDArray[np.int64]) -> None:
        """Work out anew which of these subjects anything is remembered of."""
        for place, alike in enumerate(self.rules.alike):
            rows = alike.rows[:, None]
            self.active[place, slots] = (self.severity[rows, slots] != 0).any(axis=0) | (
                self.held[rows, :, slots] != 0
            ).any(axis=(0, 2))

    def bring_back(self, pairs: Pairs, slot_of: dict[int, int]) -> None:
        """Take over what was kept, of the rules that are still the same and of the subjects that have a slot here."""
        rows = {(rule.key, rule.revision): row for row, rule in enumerate(self.rules.rules)}
        row = np.array(
            [rows.get(key, -1) for key in zip(pairs.rule.tolist(), pairs.revision.tolist(), strict=True)], int
        )
        slot = np.array([slot_of.get(subject, -1) for subject in pairs.subject.tolist()], int)
        kept = np.flatnonzero((row >= 0) & (slot >= 0) & (pairs.level < self.rules.levels))
        self.held[row[kept], pairs.level[kept], slot[kept]] = pairs.held[kept]
        # Also where nothing was being counted an alarm may be active.
        self.note_active(np.arange(self.size))

    def take_changes(self) -> Pairs:
        """The pairs that changed since this was asked last."""
        changed, self.changed = self.changed, []
        return Pairs.joined(changed)
