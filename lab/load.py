"""Loading the demonstration: the inventory, and 35 days of readings.

The readings come from the same traffic function as the agents' counters and pass through the
same recorder, ledger and roll-ups as live ones.
"""

import json
import math
import os
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
from django.db import connection, transaction
from numpy.typing import NDArray

from lab import controller_setup, people
from lab import scenario as plan
from lab.background_writer import Writer
from lab.counting import (
    FLASH_KIB,
    FLASH_USED_KIB,
    MEMORY_KIB,
    Group,
    boot_at,
    boots,
    is_silent,
    memory_used_kib,
    processor_load,
    sensor_tenths,
)
from lab.flow_history import FlowHistory
from lab.incidents import INCIDENTS, Heat, Silence
from lab.inventory import Loaded, make_inventory
from lab.network import epoch_file
from lab.path_history import PathHistory
from lab.scenario import Box, Scenario
from lumtar.core.counters import Snapshot
from lumtar.core.ledger import Observation, State, Status
from lumtar.core.rows import join_rows, take_rows
from lumtar.core.rules import Pairs
from lumtar.domain.alarms.exceptions import narrowed
from lumtar.domain.alarms.rules import in_force
from lumtar.domain.inventory.models import Component, Device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings import newest, partitions, rollups
from lumtar.domain.readings import services as readings
from lumtar.domain.readings.models import Newest, RolledUp
from lumtar.engine import store
from lumtar.engine.batch import Batch, moment
from lumtar.engine.recorder import Answer, Recorder
from lumtar.wire.faults import Fault, FaultKind

DAY = 86400
DAYS = int(os.environ.get("LUMTAR_DEMO_DAYS", "35"))
FINE_HOURS = 26


def load(built: Scenario, var: Path, say: Callable[[str], None], receivers: int = 8474) -> None:
    """Load the demonstration, unless it is there already."""
    if Device.objects.exists():
        return
    began = time.time()
    epoch = float(int(began / 60) * 60)
    say("loading the demonstration scenario …")
    with transaction.atomic():
        # What was set up is as old as the history; the last hour shows what the network did.
        begun = moment(epoch - 40 * DAY)
        loaded = make_inventory(built, begun)
        people.rules()
        people.definitions()
        Entry.objects.update(at=begun)
    var.mkdir(parents=True, exist_ok=True)
    epoch_file(var).write_text(json.dumps({"epoch": epoch}))
    History(built, loaded, epoch, say).write()
    FlowHistory(built, loaded, epoch).write(DAYS, say)
    PathHistory(built, epoch).write(DAYS, say)
    controller_setup.set_up(var)
    people.fill(receivers)
    people.answers(moment(epoch))
    people.link_rules()
    Entry.objects.filter(by=people.BY).update(at=begun)
    say(f"  {DAYS} days of history in {time.time() - began:.0f} s")


class History:
    """Computes the past step by step and writes it day by day."""

    def __init__(self, built: Scenario, loaded: list[Loaded], epoch: float, say: Callable[[str], None]) -> None:
        self.loaded = loaded
        self.epoch = epoch
        self.say = say
        ports = [(each.box, port) for each in loaded for port in each.box.ports]
        self.group = Group(built, ports, epoch, INCIDENTS)
        self.recorder, rules = Recorder([]), in_force()
        self.recorder.renew_rules(rules, narrowed(rules))
        self.slots = np.concatenate([self.recorder.add(each.device, each.interfaces) for each in loaded])
        self.ids = np.array([interface.pk for each in loaded for interface in each.interfaces])
        self.owner = np.repeat(np.arange(len(loaded)), [len(each.interfaces) for each in loaded])
        self.boots = [boots(each.box, epoch) for each in loaded]
        self.oper = np.array([1 if port.up else 2 for _, port in ports], np.int16)
        self.wide = np.array([port.wide for _, port in ports])
        self.high_speed = np.array([round(port.speed_bps / 1e6) for _, port in ports])
        self.speed = np.array([min(port.speed_bps, 2**32 - 1) for _, port in ports])
        self.events = Batch()
        self.memory: dict[str, list[Pairs]] = {}
        self.newest: tuple[NDArray[np.int64], Observation, State] | None = None
        self.quiet: set[int] = set()
        self.silences = {
            each.box.name: [i for i in INCIDENTS if isinstance(i, Silence) and i.device == each.box.name]
            for each in loaded
        }
        self.heat = [incident for incident in INCIDENTS if isinstance(incident, Heat)]

    def steps(self) -> Iterator[tuple[float, float]]:
        """Times and the interval in force: coarse long ago, every minute at the end."""
        fine = self.epoch - FINE_HOURS * 3600
        kept = self.epoch - 14 * DAY
        # A reading at midnight itself would end five minutes of the day before, whose table is closed by then.
        at = float(int((self.epoch - DAYS * DAY) / 900) * 900) + 30.0
        while at <= self.epoch - 60:
            interval = 900.0 if at < kept else 600.0 if at < fine else 60.0
            yield at, interval
            at += interval

    def write(self) -> None:
        """Compute and write everything."""
        first, last = moment(self.epoch - DAYS * DAY).date(), moment(self.epoch).date()
        partitions.ensure(first, last)
        with connection.cursor() as cursor:
            # Each day's readings are written to a table of their own, which becomes the partition when it is whole.
            for each in partitions.existing()[partitions.IN_PIECES]:
                cursor.execute(f"DROP TABLE {each.name}")
        oldest_kept = last - timedelta(days=13)
        writer = Writer()
        day, rows = None, _Rows()
        total = DAYS + 1
        done = 0
        for at, interval in self.steps():
            today = moment(at).date()
            if day is not None and today != day:
                self._hand_over(writer, day, rows, day >= oldest_kept)
                rows = _Rows()
                done += 1
                if done % 7 == 0:
                    self.say(f"  history: {done} of {total} days")
            day = today
            self._step(at, interval, rows, today >= oldest_kept)
        if day is not None:
            self._hand_over(writer, day, rows, True)
        writer.finish()
        self.events.memory = {kind: Pairs.joined(pairs).newest() for kind, pairs in self.memory.items()}
        store.write(self.events)
        if self.newest is not None:
            with transaction.atomic():
                newest.renew(*self.newest)
        RolledUp.objects.update_or_create(pk=1, defaults={"until": rollups.five_of(moment(self.epoch))})
        Newest.objects.update(since=moment(self.epoch - DAYS * DAY))
        with connection.cursor() as cursor:
            cursor.execute("ANALYZE")

    def _step(self, at: float, interval: float, rows: "_Rows", kept: bool) -> None:
        # One instant for all devices: a source's traffic then is computed once for every port on its way.
        times = np.full(len(self.loaded), at)
        answering = np.ones(len(self.loaded), bool)
        for number, each in enumerate(self.loaded):
            if self.silences[each.box.name] and is_silent(each.box, self.epoch, at, self.silences[each.box.name]):
                answering[number] = False
                self._silent(number, each, times[number], interval)
            elif number in self.quiet or not self.recorder.reach.get(each.device.pk):
                self._heard(number, each, times[number])
        here = answering[self.owner]
        moments = times[self.owner]
        boot = np.array([boot_at(self.boots[number], times[number]) for number in range(len(self.loaded))])[self.owner]
        counted = self.group.counters(moments, boot)
        modulus = np.where(self.wide, 2.0**63, 2.0**32)[:, None]
        counted[:, :8] = np.mod(counted[:, :8], modulus)
        counted[:, 8:] = np.mod(counted[:, 8:], 2.0**32)
        n = int(here.sum())
        slots = self.slots[here]
        self.recorder.ledger.state.interval[slots] = interval
        snapshot = Snapshot(
            moments[here],
            ((moments - boot)[here] * 100).astype(np.int64) % 2**32,
            np.zeros(n, np.int64),
            counted[here].astype(np.uint64),
            np.ones(n, bool),
            self.wide[here],
        )
        status = Status(np.ones(n, np.int16), self.oper[here], self.high_speed[here], self.speed[here])
        batch = Batch()
        self.recorder.observe(batch, slots, snapshot, status)
        assert batch.seen is not None and batch.state is not None
        self.events.entries += batch.entries
        self.events.transitions += batch.transitions
        self.events.speeds += batch.speeds
        self._keep_memory(batch)
        rows.add(self.ids[here], batch.seen)
        if at > self.epoch - 3 * 3600:
            self._keep_newest(self.ids[here], batch.seen, batch.state)
        if kept or at % 3600 == 0:
            rows.add_parts(self._parts(times, answering), self._polls(times, answering))
        for place in np.flatnonzero(answering):
            reach = self.recorder.reach[self.loaded[place].device.pk]
            reach.answered_at = float(times[place])

    def _keep_newest(self, ids: NDArray[np.int64], seen: Observation, state: State) -> None:
        """A device that falls silent keeps what was seen of it last."""
        if self.newest is not None and len(self.newest[0]) > len(ids):
            with transaction.atomic():
                newest.renew(*self.newest)
        self.newest = (ids, seen, state)

    def _silent(self, number: int, each: Loaded, at: float, interval: float) -> None:
        self.quiet.add(number)
        known = self.recorder.reach.get(each.device.pk)
        batch = self.recorder.silent(
            each.device, at, Fault(FaultKind.NO_ANSWER, f"no answer on UDP {plan.PORT} in 3 tries"), at + interval
        )
        if known is None or known.silent_polls <= 1 or batch.transitions:
            self._keep(batch)
        self._keep_memory(batch)
        self.events.devices = [news for news in self.events.devices if news.device != each.device.pk] + batch.devices

    def _heard(self, number: int, each: Loaded, at: float) -> None:
        self.quiet.discard(number)
        uptime = int((at - boot_at(self.boots[number], at)) * 100)
        empty = np.zeros(0, np.int64)
        batch = Batch()
        answer = Answer(
            each.device, at, uptime, empty, None, None, next_poll_at=at + 60, rtt_ms=self._rtt(each, at), poll_ms=14.0
        )
        self.recorder.heard(batch, [answer])
        self._keep(batch)
        self._keep_memory(batch)
        # How this poll went stands among the day's rows.
        heard = [replace(news, rtt_ms=None, poll_ms=None) for news in batch.devices]
        self.events.devices = [news for news in self.events.devices if news.device != each.device.pk] + heard

    def _keep(self, batch: Batch) -> None:
        self.events.entries += batch.entries
        self.events.transitions += batch.transitions
        self.events.gaps += batch.gaps

    def _keep_memory(self, batch: Batch) -> None:
        for kind, pairs in batch.memory.items():
            self.memory.setdefault(kind, []).append(pairs)

    @staticmethod
    def _rtt(each: Loaded, at: float) -> float:
        base = 0.7 + 0.05 * (each.box.seed % 11)
        return base * (1.0 + 0.15 * abs(math.sin(at / 977.0 + each.box.seed)))

    def _polls(self, times: NDArray[np.float64], answering: NDArray[np.bool_]) -> list[tuple[int, float, float, float]]:
        polls = []
        for number in np.flatnonzero(answering):
            each = self.loaded[number]
            rtt = self._rtt(each, times[number])
            polls.append((each.device.pk, float(times[number]), rtt, 6 + 3.2 * rtt))
        return polls

    def _parts(self, times: NDArray[np.float64], answering: NDArray[np.bool_]) -> list[tuple[int, float, float]]:
        components = []
        for number in np.flatnonzero(answering):
            each, at = self.loaded[number], float(times[number])
            for part in each.components:
                components.append((part.pk, at, self._number(each.box, part, at)))
        return components

    def _number(self, box: Box, part: Component, at: float) -> float:
        """What a component showed."""
        if part.kind == "processor":
            return float(processor_load(box, int(part.index), self.epoch, at, self.heat))
        if part.kind == "memory":
            return 100 * memory_used_kib(box, at) / MEMORY_KIB
        if part.kind == "storage":
            return 100 * FLASH_USED_KIB / FLASH_KIB
        return sensor_tenths(box, int(part.index) - 2, at) / 10

    def _hand_over(self, writer: Writer, day: object, rows: "_Rows", kept: bool) -> None:
        writer.put(lambda: rows.write(day, kept, moment(self.epoch)))


class _Rows:
    """One day's readings until they are written."""

    def __init__(self) -> None:
        self.ids: list[NDArray[np.int64]] = []
        self.seen: list[Observation] = []
        self.components: list[tuple[int, float, float]] = []
        self.polls: list[tuple[int, float, float, float]] = []

    def add(self, ids: NDArray[np.int64], seen: Observation) -> None:
        self.ids.append(ids)
        self.seen.append(seen)

    def add_parts(self, parts: list[tuple[int, float, float]], polls: list[tuple[int, float, float, float]]) -> None:
        self.components += parts
        self.polls += polls

    def write(self, day: object, kept: bool, until: datetime) -> None:
        """COPY into a table without an index, roll it up, then attach or forget it: no page is written twice."""
        name = f"readings_reading_{day:%Y%m%d}"
        start = datetime.combine(day, datetime.min.time(), UTC)  # type: ignore[arg-type]
        end = start + timedelta(days=1)
        with transaction.atomic(), connection.cursor() as cursor:
            cursor.execute(f"CREATE TABLE {name} (LIKE readings_reading)")
            readings.append(*by_interface(np.concatenate(self.ids), join_rows(self.seen)), name)
            if self.components:
                readings.append_components(*zip(*self.components, strict=True))
                readings.append_devices(*zip(*self.polls, strict=True))
            rollups.roll_all(start, min(end, rollups.five_of(until)), name)
            if kept:
                cursor.execute(f"ALTER TABLE {name} ADD PRIMARY KEY (interface_id, at)")
                cursor.execute(f"COMMENT ON TABLE {name} IS '{partitions.IN_ORDER}'")
                cursor.execute(
                    f"ALTER TABLE readings_reading ATTACH PARTITION {name} FOR VALUES FROM ('{start:%Y-%m-%d}T00:00:00Z') TO ('{end:%Y-%m-%d}T00:00:00Z')"
                )
            else:
                cursor.execute(f"DROP TABLE {name}")


def by_interface(ids: NDArray[np.int64], seen: Observation) -> tuple[NDArray[np.int64], Observation]:
    """The rows in the order in which a closed day is kept."""
    order = np.lexsort((seen.at, ids))
    return ids[order], take_rows(seen, order)
