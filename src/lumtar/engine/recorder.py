"""From polls to what is to be stored: keeps the ledger, says what changed, touches no database.

The collector feeds it live polls, the loader of history computed ones; both get the same
readings, log entries and alarms.
"""

import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

from lumtar.core.alarms.severity import Severity
from lumtar.core.alarms.wording import reachable_text, unreachable_text, utilisation_cleared_text, utilisation_text
from lumtar.core.counters import Snapshot
from lumtar.core.ethernet import DUPLEX, Errors
from lumtar.core.labels import QUIET
from lumtar.core.ledger import UP, Ledger, Observation, Status
from lumtar.core.rows import join_rows
from lumtar.core.rules.threshold import Threshold
from lumtar.core.units import duration, rate
from lumtar.domain.alarms.models import AlarmType, Rule
from lumtar.domain.alarms.services import Transition
from lumtar.domain.inventory.description import SpeedChange
from lumtar.domain.inventory.models import Device, Interface, Reach
from lumtar.domain.logbook.models import Entry
from lumtar.engine.batch import Batch, DeviceNews, GapNews, Reachability
from lumtar.wire.faults import Fault

Kind = Entry.Kind


def moment(seconds: float) -> datetime:
    """Seconds of the epoch as a time."""
    return datetime.fromtimestamp(seconds, UTC)


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
    parts: list[tuple[int, float, float]] = field(default_factory=list)
    errors: list[tuple[int, Errors]] = field(default_factory=list)
    """Of Ethernet interfaces, by slot."""
    duplex: dict[int, int] = field(default_factory=dict)
    """By slot, as far as it was read."""
    requests: int = 1
    refused: dict[str, str] = field(default_factory=dict)
    """What it gave and was not believed."""


class Recorder:
    """Keeps the newest state of everything; give it answers and silences, take batches."""

    def __init__(self, rules: Sequence[Rule]) -> None:
        self.rules = [rule for rule in rules if rule.enabled and rule.type == AlarmType.UTILISATION]
        self.silence = next((rule for rule in rules if rule.enabled and rule.type == AlarmType.UNREACHABLE), None)
        self.ledger = Ledger([Threshold(rule.limit_percent, rule.clear_percent, rule.readings) for rule in self.rules])
        self.interfaces: list[Interface] = []
        self.names: dict[int, str] = {}
        self.reach: dict[int, Reachability] = {}
        self.lock = threading.RLock()
        """Interfaces are added from other threads than the one that takes answers."""
        self._ids = np.zeros(0, np.int64)
        self._owners = np.zeros(0, np.int64)
        self._remembered: set[tuple[int, int]] = set()
        self._sold: dict[int, tuple[int, int]] = {}

    def renew_rules(self, rules: Sequence[Rule]) -> None:
        """Take changed rules over; a rule that is still there keeps its memory."""
        with self.lock:
            self._renew_rules(rules)

    def _renew_rules(self, rules: Sequence[Rule]) -> None:
        fresh = Recorder(rules)
        old = {rule.pk: row for row, rule in enumerate(self.rules)}
        ledger = self.ledger
        room = ledger.over.shape[1]
        over, raised = np.zeros((len(fresh.rules), room), np.int16), np.zeros((len(fresh.rules), room), np.bool_)
        for row, rule in enumerate(fresh.rules):
            if rule.pk in old:
                over[row], raised[row] = ledger.over[old[rule.pk]], ledger.raised[old[rule.pk]]
        self.rules, self.silence = fresh.rules, fresh.silence
        ledger.rules, ledger.over, ledger.raised = fresh.ledger.rules, over, raised

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
                if interface.pk in labels:
                    interface.label, interface.role = labels[interface.pk]

    def move_times(self, step: float) -> None:
        """The clock was set by so many seconds: all that is known was so much later or earlier by it."""
        with self.lock:
            self.ledger.state.at[self.ledger.state.seen] += step
            for known in self.reach.values():
                known.since += step
                known.answered_at = known.answered_at + step if known.answered_at is not None else None
                known.started_at = known.started_at + step if known.started_at is not None else None

    def add(self, device: Device, interfaces: Sequence[Interface]) -> NDArray[np.int64]:
        """Slots for interfaces that are new here."""
        with self.lock:
            return self._add(device, interfaces)

    def _add(self, device: Device, interfaces: Sequence[Interface]) -> NDArray[np.int64]:
        slots = self.ledger.add(len(interfaces))
        self.interfaces += interfaces
        self._ids = np.concatenate([self._ids, np.array([interface.pk for interface in interfaces], np.int64)])
        self._owners = np.concatenate([self._owners, np.full(len(interfaces), device.pk, np.int64)])
        self.names[device.pk] = device.name
        state = self.ledger.state
        state.interval[slots] = device.interval_s
        for slot, interface in zip(slots, interfaces, strict=True):
            state.in_override[slot] = interface.in_override_bps or 0
            state.out_override[slot] = interface.out_override_bps or 0
        return slots

    def remember(self, rule: int, slot: int, over: int) -> None:
        """Bring back a count of readings in a row above the limit."""
        for row, each in enumerate(self.rules):
            if each.pk == rule:
                self.ledger.over[row, slot] = over
                self._remembered.add((rule, self.interfaces[slot].pk))

    def stand(self, rule: int | None, slot: int) -> None:
        """Bring back an alarm that stands."""
        for row, each in enumerate(self.rules):
            if each.pk == rule:
                self.ledger.raised[row, slot] = True

    def take(self, answers: Sequence[Answer]) -> Batch:
        """What follows from these answers; no device may be among them twice."""
        with self.lock:
            batch = Batch()
            for answer in answers:
                self.heard(batch, answer)
                batch.parts += [(answer.device.pk, *part) for part in answer.parts]
                batch.errors += [(self.interfaces[slot].pk, answer.at, errors) for slot, errors in answer.errors]
                self._take_duplex(batch, answer)
            self._take_counters(batch, [answer for answer in answers if len(answer.slots)])
        return batch

    def _take_duplex(self, batch: Batch, answer: Answer) -> None:
        for slot, duplex in answer.duplex.items():
            interface = self.interfaces[slot]
            if interface.duplex == duplex:
                continue
            was, interface.duplex = interface.duplex, duplex
            batch.duplex[interface.pk] = duplex
            if DUPLEX.get(was) and DUPLEX.get(duplex) and interface.role not in QUIET:
                text = f"{interface.label} has {DUPLEX[duplex]}, was {DUPLEX[was]}"
                batch.entries.append(
                    Entry(at=moment(answer.at), kind=Kind.SPEED, device=answer.device, interface=interface, text=text)
                )

    def _take_counters(self, batch: Batch, answers: list[Answer]) -> None:
        if not answers:
            return
        slots = np.concatenate([answer.slots for answer in answers])
        snapshots = [answer.snapshot for answer in answers if answer.snapshot is not None]
        statuses = [answer.status for answer in answers if answer.status is not None]
        self.observe(batch, slots, join_rows(snapshots), join_rows(statuses))

    def observe(self, batch: Batch, slots: NDArray[np.int64], snapshot: Snapshot, status: Status) -> None:
        """Take in the counters of many interfaces at once and add what follows to a batch."""
        previous = self.ledger.state.oper[slots], self.ledger.state.port_bps[slots], self.ledger.state.seen[slots]
        seen = self.ledger.observe(slots, snapshot, status)
        batch.interfaces, batch.seen, batch.state = self._ids[slots], seen, self.ledger.excerpt(slots)
        batch.owners = self._owners[slots]
        self._note_states(batch, seen, previous[0])
        self._note_speeds(batch, seen, previous[1], previous[2])
        self._note_alarms(batch, seen)
        self._note_memory(batch, slots)

    def silent(self, device: Device, at: float, fault: Fault, next_poll_at: float) -> Batch:
        """What follows from a poll that failed."""
        batch = Batch()
        known = self.reach.setdefault(device.pk, Reachability())
        known.silent_polls += 1
        if known.reach != Reach.SILENT:
            batch.gaps.append(GapNews(device.pk, known.answered_at or at, None, "silent", fault.words))
            text = f"{device.name} does not answer: {fault.words}"
            batch.entries.append(Entry(at=moment(at), kind=Kind.REACH, device=device, text=text[:400]))
            known.reach, known.since = Reach.SILENT, at
        known.reason_kind, known.reason = fault.kind, fault.words
        batch.devices.append(DeviceNews(device.pk, at, known, next_poll_at))
        rule = self.silence
        if rule is not None and known.silent_polls >= rule.readings:
            words = unreachable_text(fault.words)
            batch.transitions.append(self._reachability(device, Severity(rule.severity), words, at))
        return batch

    def _reachability(self, device: Device, severity: Severity, text: str, at: float) -> Transition:
        rule = self.silence
        mail = tuple(rule.mail_to) if rule else ()
        return Transition(
            device.pk, None, AlarmType.UNREACHABLE, "", severity, text, moment(at), rule.pk if rule else None, mail
        )

    def heard(self, batch: Batch, answer: Answer) -> None:
        """Note that a device answered: whether it had been silent, and whether it restarted."""
        device, at = answer.device, answer.at
        known = self.reach.setdefault(device.pk, Reachability())
        if known.reach == Reach.SILENT:
            quiet = at - known.since
            text = reachable_text(quiet, duration(quiet))
            batch.gaps.append(GapNews(device.pk, known.answered_at or at, at, "silent", known.reason))
            batch.entries.append(
                Entry(at=moment(at), kind=Kind.REACH, device=device, text=f"{device.name} {text[0].lower()}{text[1:]}")
            )
            batch.transitions.append(self._reachability(device, Severity.CLEARED, text, at))
        if known.reach != Reach.ANSWERS:
            known.reach, known.since = Reach.ANSWERS, at
        started = at - answer.uptime / 100 if answer.uptime >= 0 else None
        if started is not None and known.started_at is not None and started > known.started_at + 30:
            was_up = duration(max(0.0, (known.answered_at or at) - known.started_at))
            batch.entries.append(
                Entry(
                    at=moment(started),
                    kind=Kind.RESTART,
                    device=device,
                    text=f"{device.name} restarted, was up {was_up}",
                )
            )
        if started is not None and (known.started_at is None or abs(started - known.started_at) > 30):
            known.started_at = started
        known.answered_at, known.silent_polls, known.reason, known.reason_kind = at, 0, "", ""
        batch.devices.append(
            DeviceNews(
                device.pk,
                at,
                known,
                answer.next_poll_at,
                answer.rtt_ms,
                answer.poll_ms,
                answer.requests,
                answer.refused,
            )
        )

    def _note_states(self, batch: Batch, seen: Observation, before: NDArray[np.int16]) -> None:
        words = {UP: "up", 2: "down", 3: "testing", 4: "unknown", 5: "dormant", 6: "not present", 7: "down beneath"}
        for row in np.flatnonzero(seen.state_changed & (before != seen.status.oper)):
            interface = self.interfaces[seen.slots[row]]
            if interface.role in QUIET:
                continue
            was, now = (words.get(int(value), str(value)) for value in (before[row], seen.status.oper[row]))
            text = f"{self.names[interface.device_id]} {interface.label} {was} → {now}"
            batch.entries.append(
                Entry(
                    at=moment(seen.at[row]),
                    kind=Kind.STATE,
                    device_id=interface.device_id,
                    interface=interface,
                    text=text[:400],
                )
            )

    def _note_speeds(
        self, batch: Batch, seen: Observation, before: NDArray[np.int64], known: NDArray[np.bool_]
    ) -> None:
        state = self.ledger.state
        for row in np.flatnonzero(seen.speed_changed):
            slot = seen.slots[row]
            interface = self.interfaces[slot]
            now = int(state.port_bps[slot])
            batch.speeds.append(
                SpeedChange(
                    interface.pk,
                    moment(seen.at[row]),
                    now,
                    bool(state.from_high_speed[slot]),
                    int(state.in_override[slot]),
                    int(state.out_override[slot]),
                )
            )
            if known[row] and interface.role not in QUIET:
                text = (
                    f"{self.names[interface.device_id]} {interface.label} now {rate(now)}, was {rate(int(before[row]))}"
                )
                batch.entries.append(
                    Entry(
                        at=moment(seen.at[row]),
                        kind=Kind.SPEED,
                        device_id=interface.device_id,
                        interface=interface,
                        text=text[:400],
                    )
                )

    def _note_alarms(self, batch: Batch, seen: Observation) -> None:
        in_speed, out_speed = self.ledger.speeds(seen.slots)
        for number, rule in enumerate(self.rules):
            for row in np.flatnonzero(seen.raised[number] | seen.cleared[number]):
                interface = self.interfaces[seen.slots[row]]
                outward = not seen.in_percent[row] > seen.out_percent[row]
                percent = float(seen.out_percent[row] if outward else seen.in_percent[row])
                if seen.raised[number, row]:
                    bps, speed = (seen.out_bps[row], out_speed[row]) if outward else (seen.in_bps[row], in_speed[row])
                    text = utilisation_text(
                        "out" if outward else "in", percent, float(bps), float(speed), rule.readings
                    )
                    severity = Severity(rule.severity)
                else:
                    text, severity = utilisation_cleared_text(percent, rule.clear_percent), Severity.CLEARED
                batch.transitions.append(
                    Transition(
                        interface.device_id,
                        interface.pk,
                        AlarmType.UTILISATION,
                        str(rule.pk),
                        severity,
                        text,
                        moment(seen.at[row]),
                        rule.pk,
                        tuple(rule.mail_to),
                    )
                )

    def _note_memory(self, batch: Batch, slots: NDArray[np.int64]) -> None:
        """Counts that changed: those above zero, and those that were and are no more."""
        for number, rule in enumerate(self.rules):
            over = self.ledger.over[number, slots]
            for row in np.flatnonzero(over):
                key = (rule.pk, int(self._ids[slots[row]]))
                batch.memory[key] = int(over[row])
                self._remembered.add(key)
        if self._remembered:
            there = set(self._ids[slots].tolist())
            for key in [key for key in self._remembered if key[1] in there and key not in batch.memory]:
                batch.memory[key] = 0
                self._remembered.discard(key)
