"""From polls to what is to be stored: keeps the ledger and the rules' memory, and touches no database.

The collector feeds it live polls, the loader of history computed ones; both get the same
readings, log entries and alarms.
"""

import threading
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from lumtar.core.counters import Snapshot
from lumtar.core.ethernet import Errors
from lumtar.core.ledger import UP, Ledger, Status
from lumtar.core.measures import Polls
from lumtar.core.measures.components import Components
from lumtar.core.negotiated import Negotiated
from lumtar.core.rows import join_rows
from lumtar.domain.alarms.models import Rule
from lumtar.domain.inventory.models import Device, Interface
from lumtar.engine import news
from lumtar.engine.batch import Batch, ComponentValue, Reachability
from lumtar.engine.reachability import answered, unanswered
from lumtar.engine.watching import Scopes, Watch
from lumtar.wire.faults import Fault

MOST_NAMED = 12
"""Interfaces that the sentence about those that are gone names."""


@dataclass(slots=True)
class Answer:
    """One device's successful poll, with interface slots instead of indexes."""

    device: Device
    at: float
    uptime: int
    slots: NDArray[np.int64]
    snapshot: Snapshot | None
    status: Status | None
    next_poll_at: float = 0.0
    rtt_ms: float = 0.0
    poll_ms: float = 0.0
    components: list[ComponentValue] = field(default_factory=list)
    errors: list[tuple[int, Errors]] = field(default_factory=list)
    """Of Ethernet interfaces, by slot."""
    duplex: dict[int, int] = field(default_factory=dict)
    """By slot, as far as it was read."""
    requests: int = 1
    refused: dict[str, str] = field(default_factory=dict)
    """What it gave and was not believed."""
    gone: tuple[str, ...] = ()
    """Interfaces that it listed within the last day and does not list any more."""


def one_of_each_device(answers: Sequence[Answer]) -> list[list[Answer]]:
    """Answers in groups that hold none of a device twice, in their order: a confirming poll can be as close as that."""
    groups: list[dict[int, Answer]] = []
    for answer in answers:
        group = next((each for each in groups if answer.device.pk not in each), None)
        if group is None:
            groups.append(group := {})
        group[answer.device.pk] = answer
    return [list(group.values()) for group in groups]


class Recorder:
    """Keeps the newest state of everything; give it answers and silences, take batches."""

    def __init__(self, rules: Sequence[Rule]) -> None:
        self.watch = Watch(rules)
        self.ledger = Ledger()
        self.negotiated = Negotiated()
        self.interfaces: list[Interface | None] = []
        """By slot."""
        self.names: dict[int, str] = {}
        self.reach: dict[int, Reachability] = {}
        self.lock = threading.RLock()
        """Interfaces are added from other threads than the one that takes answers."""
        self._ids = np.zeros(0, np.int64)
        self._owners = np.zeros(0, np.int64)
        self._sold: dict[int, tuple[int, int]] = {}

    def renew_rules(self, rules: Sequence[Rule], scopes: Scopes | None = None) -> None:
        """Take changed rules over; ``scopes`` are the interfaces of those that are narrowed by a condition."""
        with self.lock:
            self.watch.renew(rules, scopes)

    def renew_normal_ranges(self) -> None:
        """Read again what is normal for what is watched."""
        with self.lock:
            self.watch.renew_baselines()

    def renew_overrides(self, sold: dict[int, tuple[int, int]]) -> None:
        """Take over speeds that somebody set: interface -> bits per second in and out, 0 for the port's own."""
        if sold == self._sold:
            return
        with self.lock:
            state = self.ledger.state
            slot_of = {int(pk): slot for slot, pk in enumerate(self._ids) if pk in sold or pk in self._sold}
            for pk, slot in slot_of.items():
                state.in_override[slot], state.out_override[slot] = sold.get(pk, (0, 0))
            self._sold = sold

    def renew_labels(self, labels: dict[int, tuple[str, str]]) -> None:
        """Take over labels and roles: interface -> both."""
        with self.lock:
            for interface in self.interfaces:
                if interface is not None and interface.pk in labels:
                    interface.label, interface.role = labels[interface.pk]

    def move_times(self, step: float) -> None:
        """The clock was set by so many seconds: all that is known was so much later or earlier by it."""
        with self.lock:
            self.ledger.state.at[self.ledger.state.seen] += step
            self.watch.move_times(step)
            for known in self.reach.values():
                known.move_times(step)

    def add(self, device: Device, interfaces: Sequence[Interface]) -> NDArray[np.int64]:
        """Slots for interfaces that are new here."""
        with self.lock:
            slots = self.ledger.add(len(interfaces))
            more = self.ledger.slots.size - len(self.interfaces)
            self.interfaces += [None] * more
            self.negotiated.grow(self.ledger.slots.size)
            self._ids, self._owners = np.pad(self._ids, (0, more)), np.pad(self._owners, (0, more))
            state = self.ledger.state
            for slot, interface in zip(slots.tolist(), interfaces, strict=True):
                self.interfaces[slot] = interface
                self._ids[slot], self._owners[slot] = interface.pk, device.pk
                state.in_override[slot] = interface.in_override_bps or 0
                state.out_override[slot] = interface.out_override_bps or 0
                self.negotiated.note_duplex(slot, interface.duplex)
            state.interval[slots] = device.interval_s
            self.watch.put("interface", slots, self._ids[slots], self._owners[slots])
            self.names[device.pk] = device.name
            return slots

    def drop(self, device: int) -> None:
        """Forget a device that is not polled here any more; others get its slots."""
        with self.lock:
            gone = np.flatnonzero(self._owners == device)
            self.watch.drop_device(device)
            self.ledger.drop(gone)
            self.negotiated.forget(gone)
            self._ids[gone] = self._owners[gone] = 0
            for slot in gone.tolist():
                self.interfaces[slot] = None
            self.names.pop(device, None)
            self.reach.pop(device, None)

    def take(self, answers: Sequence[Answer]) -> Batch:
        """What follows from these answers; no device may be among them twice."""
        with self.lock:
            batch = Batch()
            self.heard(batch, answers)
            for answer in answers:
                batch.components += [
                    (answer.device.pk, each.component, each.at, each.value) for each in answer.components
                ]
                batch.errors += [(self.interface(slot).pk, answer.at, errors) for slot, errors in answer.errors]
                for slot, duplex in answer.duplex.items():
                    self.negotiated.note_duplex(slot, duplex)
                    news.note_duplex(batch, self.interface(slot), answer.at, duplex)
            self._look_at_components(batch, answers)
            counted = [answer for answer in answers if len(answer.slots)]
            if counted:
                slots = np.concatenate([answer.slots for answer in counted])
                snapshots = [answer.snapshot for answer in counted if answer.snapshot is not None]
                statuses = [answer.status for answer in counted if answer.status is not None]
                self.observe(batch, slots, join_rows(snapshots), join_rows(statuses))
        return batch

    def interface(self, slot: int) -> Interface:
        """The interface that has a slot."""
        interface = self.interfaces[slot]
        assert interface is not None
        return interface

    def observe(self, batch: Batch, slots: NDArray[np.int64], snapshot: Snapshot, status: Status) -> None:
        """Take in the counters of many interfaces at once and add what follows to a batch."""
        state = self.ledger.state
        before = state.oper[slots], state.port_bps[slots], state.seen[slots]
        seen = self.ledger.observe(slots, snapshot, status)
        batch.interfaces, batch.seen, batch.state = self._ids[slots], seen, self.ledger.excerpt(slots)
        batch.owners = self._owners[slots]
        news.note_states(batch, seen, before[0], self.interface, self.names)
        news.note_speeds(batch, seen, before[1], before[2], self.interface, self.names)
        flags, port_bps = seen.counted.flags, state.port_bps[slots].astype(np.float64)
        counts = replace(
            seen.counts(),
            port_bps=port_bps,
            fastest_bps=self.negotiated.note_speed(slots, seen.at, port_bps, status.oper == UP),
            half_duplex=self.negotiated.half_duplex[slots],
        )
        self.watch.look(batch, "interface", counts, seen.at, state.interval[slots], flags=flags, slots=slots)

    def heard(self, batch: Batch, answers: Sequence[Answer]) -> None:
        """Note that devices answered: whether they had been silent, and whether they restarted."""
        silent_s = []
        for answer in answers:
            known = self.reach.setdefault(answer.device.pk, Reachability())
            silent_s.append(answered(batch, known, answer))
        if answers:
            facts = tuple(
                {"silent_s": seconds, "gone": answer.gone[:MOST_NAMED]}
                for seconds, answer in zip(silent_s, answers, strict=True)
            )
            polls = Polls(
                np.zeros(len(answers)),
                np.array([answer.rtt_ms for answer in answers]),
                np.array([self._uptime(answer) for answer in answers]),
                np.array([np.nan if answer.uptime < 0 else len(answer.gone) for answer in answers]),
                facts,
            )
            self._look_at_devices(batch, answers, polls)

    def _uptime(self, answer: Answer) -> float:
        """Seconds since a device started; NaN if it was not asked for that."""
        started = self.reach[answer.device.pk].started_at
        return np.nan if answer.uptime < 0 or started is None else answer.at - started

    def silent(self, device: Device, at: float, fault: Fault, next_poll_at: float) -> Batch:
        """What follows from a poll that failed."""
        batch = Batch()
        with self.lock:
            known = self.reach.setdefault(device.pk, Reachability())
            unanswered(batch, known, device, at, fault, next_poll_at)
            unknown = np.full(1, np.nan)
            polls = Polls(np.ones(1), unknown, unknown, unknown, ({"reason": fault.words},))
            asked = Answer(device, at, -1, np.zeros(0, np.int64), None, None, next_poll_at)
            self._look_at_devices(batch, [asked], polls)
        return batch

    def _look_at_devices(self, batch: Batch, answers: Sequence[Answer], polls: Polls) -> None:
        numbers = np.array([answer.device.pk for answer in answers], np.int64)
        at = np.array([answer.at for answer in answers])
        planned = np.array([max(answer.device.interval_s, answer.next_poll_at - answer.at) for answer in answers])
        self.watch.look(batch, "device", polls, at, planned, numbers=numbers, owners=numbers)

    def _look_at_components(self, batch: Batch, answers: Sequence[Answer]) -> None:
        if not self.watch.kinds["component"].rules.rules:
            return
        read = [(answer, each) for answer in answers for each in answer.components]
        if not read:
            return
        kinds = np.array([each.kind for _, each in read])
        units = np.array([each.unit for _, each in read])
        components = Components(kinds, units, np.array([each.value for _, each in read]))
        self.watch.look(
            batch,
            "component",
            components,
            np.array([each.at for _, each in read]),
            np.array([max(each.every_s, answer.device.interval_s) for answer, each in read], float),
            numbers=np.array([each.component for _, each in read], np.int64),
            owners=np.array([answer.device.pk for answer, _ in read], np.int64),
        )
