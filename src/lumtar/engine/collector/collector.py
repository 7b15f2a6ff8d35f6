"""The collector's loop: who is due, polls side by side, batches once a second."""

import asyncio
import heapq
import os
import time
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import TypeVar

import numpy as np
import structlog
from django.db import DatabaseError, InterfaceError, close_old_connections

from lumtar.core import schedule
from lumtar.core.profiles import Recognition
from lumtar.core.rows import take_rows
from lumtar.domain.inventory import polling
from lumtar.domain.inventory.description import KnownPart, describe, is_known
from lumtar.domain.inventory.models import Device
from lumtar.domain.inventory.profiles import recognitions
from lumtar.domain.operation.models import Process
from lumtar.domain.operation.services import beat
from lumtar.domain.readings.models import Gap
from lumtar.domain.readings.partitions import ensure_around
from lumtar.engine.collector import targets
from lumtar.engine.collector.account import told
from lumtar.engine.collector.keeper import Keeper
from lumtar.engine.collector.live import Live
from lumtar.engine.collector.reading import Discovery, Polled, poll
from lumtar.engine.collector.targets import Target
from lumtar.engine.batch import Batch
from lumtar.engine.recorder import Answer, Recorder, moment
from lumtar.engine.store import passes
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.icmp import Pinger
from lumtar.wire.session import Exchange, Patience, Session
from lumtar.wire.tcp import connect
from lumtar.wire.transport import Transport

log = structlog.get_logger()
T = TypeVar("T")

NAME = "collector"
AT_ONCE = int(os.environ.get("LUMTAR_POLLS_AT_ONCE", "256"))
FLUSH = 1.0
CONFIGURE = 5.0
ASKED = 0.5
LONGEST_POLL = 300.0
AWAY = (DatabaseError, InterfaceError)


class Collector:
    """Polls every enabled device at its interval until it is told to stop."""

    def __init__(self) -> None:
        self.started = datetime.now(UTC)
        self.targets: dict[int, Target] = {}
        self.counts: Counter[str] = Counter()
        self.keeper = Keeper()
        self.recorder = Recorder([])
        self.transport: Transport | None = None
        self.pinger: Pinger | None = None
        self.live: Live | None = None
        self._due: list[tuple[float, int]] = []
        self._fingerprint: int | None = None
        self._labelled = 0
        self._recognitions: list[Recognition] = []
        self._answers: list[Answer] = []
        self._room = asyncio.Semaphore(AT_ONCE)
        self._tasks: set[asyncio.Task[None]] = set()
        self._waiting = asyncio.Event()

    async def run(self) -> None:
        """Work until cancelled; what was read by then is stored."""
        self.transport, self.pinger = Transport(), Pinger()
        await self._until_there(self._begin)
        self.keeper.start()
        self.live = Live(self.targets.get, self.recorder, self.transport)
        chores = [
            asyncio.create_task(each())
            for each in (
                self._flush_often,
                self._configure_often,
                self._beat_often,
                self._look_for_requests,
                self.live.run,
            )
        ]
        try:
            await self._poll_for_ever()
        finally:
            for task in [*chores, *self._tasks]:
                task.cancel()
            self._flush()
            await asyncio.to_thread(self.keeper.finish)
            self.transport.close()
            self.pinger.close()

    async def _until_there(self, work: Callable[[], None]) -> None:
        """Do blocking work that needs the database, as often as it takes."""
        while True:
            try:
                await asyncio.to_thread(_with_database, work)
                return
            except AWAY as error:
                log.warning("the database is not there yet", error=str(error))
                await asyncio.sleep(2.0)

    def _begin(self) -> None:
        now = datetime.now(UTC)
        ensure_around(now)
        last = Process.objects.filter(name=NAME).first()
        if last and now - last.beat_at > timedelta(seconds=90):
            Gap.objects.create(
                start=last.beat_at, end=now, reason=Gap.Reason.COLLECTOR, words="the collector was not running"
            )
        self.recorder = Recorder(targets.load_rules())
        self._recognitions = recognitions()
        for target in targets.load_targets(self.recorder, targets.load_devices()):
            self._admit(target)
        beat(NAME, self.started, now, {"devices": len(self.targets)})

    def _admit(self, target: Target) -> None:
        device = target.device
        self.targets[device.pk] = target
        self._schedule(target, fresh=self._is_new(device))

    def _is_new(self, device: Device) -> bool:
        known = self.recorder.reach.get(device.pk)
        return known is None or known.answered_at is None

    def _schedule(self, target: Target, fresh: bool = False, confirm: bool = False) -> float:
        now = time.time()
        due = now if fresh else schedule.next_poll(target.device.pk, target.device.interval_s, now)
        if confirm:
            due = min(due, now + schedule.CONFIRM_AFTER)
        self._put(target, due)
        return due

    def _put(self, target: Target, due: float) -> None:
        target.due = due
        heapq.heappush(self._due, (due, target.device.pk))
        self._waiting.set()

    async def _poll_for_ever(self) -> None:
        while True:
            now = time.time()
            while self._due and self._due[0][0] <= now:
                due, number = heapq.heappop(self._due)
                target = self.targets.get(number)
                # Of several entries of a device the one that was put last counts.
                if target is None or target.busy or target.due != due:
                    continue
                target.busy = True
                await self._room.acquire()
                task = asyncio.create_task(self._poll(target))
                self._tasks.add(task)
                task.add_done_callback(self._tasks.discard)
            self._waiting.clear()
            pause = min(1.0, self._due[0][0] - time.time()) if self._due else 1.0
            # Not wait_for: before Python 3.12 it loses a cancellation that comes together with the event.
            with suppress(TimeoutError):
                async with asyncio.timeout(max(0.0, pause)):
                    await self._waiting.wait()

    async def _poll(self, target: Target) -> None:
        device = target.device
        began = time.time()
        failed, fresh = False, self._is_new(device)
        answer: Answer | None = None
        fault: Fault | None = None
        trace: list[Exchange] | None = [] if target.asked else None
        asked, target.asked = target.asked, set()
        try:
            await targets.locate(target)
            async with asyncio.timeout(min(LONGEST_POLL, max(30.0, device.interval_s * 0.9))):
                if device.way == Device.Way.SNMP:
                    session = self._session(target)
                    session.trace = trace
                    if asked:
                        target.plan.all_read_at = 0.0
                    answer = await self._answer(target, await poll(session, target.plan))
                else:
                    answer = await self._look(target)
        except Fault as met:
            fault, failed = met, True
        except TimeoutError:
            fault, failed = Fault(FaultKind.NO_ANSWER, "answers, but too slowly to be read within its interval"), True
        except AWAY as error:
            target.plan.discovered = False
            if passes(error):
                log.warning("could not take over what a device says of itself", device=device.name, error=str(error))
            else:
                log.exception("what a device says of itself is refused by the database", device=device.name)
                words = "answers, but what it says of itself could not be stored (details are in the log)"
                fault, failed = Fault(FaultKind.NOT_STORED, words), True
        except Exception:
            # One device's surprise must not end the others' polls; the log has the details.
            log.exception("poll failed", device=device.name)
            fault, failed = (
                Fault(FaultKind.GARBLED, "answered with something that Lumtar did not expect (details are in the log)"),
                True,
            )
        finally:
            target.busy = False
            self._room.release()
        if target.gone:
            return
        skipped = int((time.time() - began) // device.interval_s)
        self.counts["skipped"] += skipped
        first_silence = (
            failed
            and self.recorder.reach.get(device.pk) is not None
            and self.recorder.reach[device.pk].silent_polls < 3
        )
        due = self._schedule(target, confirm=(fresh and not failed) or first_silence)
        if answer is not None:
            self.counts["polls"] += 1
            self.counts["requests"] += answer.requests
            answer.next_poll_at = due
            self._answers.append(answer)
        elif fault is not None:
            self.counts["silent"] += 1
            self.keeper.put(self.recorder.silent(device, time.time(), fault, due))
        if asked:
            await self._tell(target, asked, began, trace or [], fault)

    async def _tell(
        self, target: Target, asked: set[int], began: float, trace: list[Exchange], fault: Fault | None
    ) -> None:
        """Write down a poll that somebody asked for: each request, and what was computed."""
        computed = [] if fault else [seen for batch in self._flush() for seen in told(batch, self.recorder, target)]
        record = {
            "took_ms": round(1000 * (time.time() - began), 1),
            "exchanges": [asdict(each) for each in trace],
            "fault": fault.words if fault else "",
            "computed": computed,
        }
        with suppress(*AWAY):
            await asyncio.to_thread(_with_database, lambda: polling.answer(list(asked), target.device.pk, record))

    async def _look(self, target: Target) -> Answer:
        """Ask a device that does not speak SNMP whether it is there."""
        device = target.device
        assert target.place is not None and self.pinger is not None
        family, (address, port) = target.place
        if device.way == Device.Way.TCP:
            rtt = await connect(family, address, port, device.timeout_s, device.tries)
        else:
            rtt = await self.pinger.ping(family, address, device.timeout_s, device.tries)
        nothing = np.zeros(0, np.int64)
        return Answer(device, time.time(), -1, nothing, None, None, rtt_ms=rtt * 1000, poll_ms=rtt * 1000)

    def _session(self, target: Target) -> Session:
        device = target.device
        if target.session is None:
            assert self.transport is not None
            target.session = targets.open_session(target, self.transport, Patience(device.timeout_s, device.tries))
        return target.session

    async def _answer(self, target: Target, polled: Polled) -> Answer:
        """What was polled with slots for its interfaces; new ones are written down first."""
        self.counts["varbinds"] += polled.varbinds
        if polled.discovery is not None and not self._is_known(target, polled.discovery):
            await asyncio.to_thread(_with_database, lambda: self._describe(target, polled))
        target.is_as_loaded = False
        known = [row for row, index in enumerate(polled.indexes) if index in target.slot_of]
        snapshot, status = polled.snapshot, polled.status
        indexes = polled.indexes
        if len(known) < len(indexes):
            indexes = [indexes[row] for row in known]
            snapshot, status = take_rows(snapshot, known), take_rows(status, known)
        parts = [(target.parts[key].pk, polled.at, value) for key, value in polled.parts.items() if key in target.parts]
        return Answer(
            target.device,
            polled.at,
            polled.uptime,
            target.slots(indexes),
            snapshot,
            status,
            rtt_ms=polled.rtt_ms,
            poll_ms=polled.poll_ms,
            requests=polled.requests,
            parts=parts,
            errors=[(target.slot_of[each.if_index], each) for each in polled.errors if each.if_index in target.slot_of],
            duplex={target.slot_of[index]: value for index, value in polled.duplex.items() if index in target.slot_of},
            refused=polled.refused,
        )

    def _is_known(self, target: Target, found: Discovery) -> bool:
        """Whether a device that was just loaded says what it is known for; after a start nearly all of them do."""
        interfaces = {index: self.recorder.interfaces[slot] for index, slot in target.slot_of.items()}
        return target.is_as_loaded and is_known(
            target.device, interfaces, target.parts, self._recognitions, found.said, found.ports, found.parts
        )

    def _describe(self, target: Target, polled: Polled) -> None:
        assert polled.discovery is not None
        found, read = polled.discovery, target.device.reads
        interfaces, components = describe(target.device, found.said, found.ports, found.parts, moment(polled.at))
        # A port keeps its slot, whatever index it has now.
        slot_of = target.slot_of_port
        new = [interface for interface in interfaces.values() if interface.pk not in slot_of]
        for interface, slot in zip(new, self.recorder.add(target.device, new), strict=True):
            slot_of[interface.pk] = int(slot)
        target.slot_of = {index: slot_of[interface.pk] for index, interface in interfaces.items()}
        target.order = ([], np.zeros(0, np.int64))
        for index, interface in interfaces.items():
            self.recorder.interfaces[target.slot_of[index]] = interface
        target.parts = {key: KnownPart(c.pk, c.name, c.unit, c.scale) for key, c in components.items()}
        if target.device.reads != read:
            # It was recognised just now: its profile may want more, or less, from the next poll on.
            target.plan = targets.plan_for(target.device)

    async def _flush_often(self) -> None:
        while True:
            await asyncio.sleep(FLUSH)
            self._flush()

    def _flush(self) -> list[Batch]:
        answers, self._answers = self._answers, []
        batches = []
        # A confirming poll can answer twice within one flush; each answer of a device needs its own batch.
        while answers:
            once: dict[int, Answer] = {}
            again = []
            for answer in answers:
                if answer.device.pk in once:
                    again.append(answer)
                else:
                    once[answer.device.pk] = answer
            batches.append(self.recorder.take(list(once.values())))
            self.keeper.put(batches[-1])
            answers = again
        return batches

    async def _look_for_requests(self) -> None:
        while True:
            await asyncio.sleep(ASKED)
            with suppress(*AWAY):
                for request, device in await asyncio.to_thread(_with_database, polling.waiting):
                    target = self.targets.get(device)
                    if target is not None and not target.busy and request not in target.asked:
                        target.asked.add(request)
                        self._put(target, time.time())

    async def _configure_often(self) -> None:
        while True:
            await asyncio.sleep(CONFIGURE)
            try:
                found = await asyncio.to_thread(_with_database, targets.fingerprint)
                if found != self._fingerprint:
                    devices = await asyncio.to_thread(_with_database, targets.load_devices)
                    await self._configure({device.pk: device for device in devices})
                    self._fingerprint = found
                rules, sold, self._recognitions = await asyncio.to_thread(
                    _with_database, lambda: (targets.load_rules(), targets.load_overrides(), recognitions())
                )
                self.recorder.renew_rules(rules)
                self.recorder.renew_overrides(sold)
                await self._take_labels()
            except AWAY:
                continue

    async def _take_labels(self) -> None:
        """Take over what ports are called and are for, if that was decided anew."""
        run = await asyncio.to_thread(_with_database, targets.labelled)
        if run != self._labelled:
            self.recorder.renew_labels(await asyncio.to_thread(_with_database, targets.load_labels))
            self._labelled = run

    async def _configure(self, devices: dict[int, Device]) -> None:
        """Take over devices that came, went or were changed."""
        for number in set(self.targets) - set(devices):
            self.targets.pop(number).gone = True
        new = [device for number, device in devices.items() if number not in self.targets]
        if new:
            loaded = await asyncio.to_thread(_with_database, lambda: targets.load_targets(self.recorder, new))
            for target in loaded:
                self._admit(target)
        for number, device in devices.items():
            target = self.targets[number]
            if targets.signature(device) != targets.signature(target.device):
                target.session = target.place = None
            if device.reads != target.device.reads:
                target.plan = targets.plan_for(device)
            elif (device.profile_id, device.label_template) != (target.device.profile_id, target.device.label_template):
                target.plan.discovered = False
            if device.interval_s != target.device.interval_s and target.slot_of:
                self.recorder.ledger.state.interval[list(target.slot_of.values())] = device.interval_s
            target.device = device
            self.recorder.names[number] = device.name

    async def _beat_often(self) -> None:
        while True:
            detail = self.standing()
            with suppress(*AWAY):
                await asyncio.to_thread(_with_database, lambda detail=detail: self._beat(detail))
            await asyncio.sleep(5.0)

    def _beat(self, detail: dict[str, object]) -> None:
        now = datetime.now(UTC)
        beat(NAME, self.started, now, detail)
        ensure_around(now)

    def standing(self) -> dict[str, object]:
        """What the collector does and how far behind it is."""
        now = time.time()
        late = max((now - due for due, _ in self._due), default=0.0)
        assert self.transport is not None
        return {
            "devices": len(self.targets),
            "interfaces": self.recorder.ledger.size,
            "lag_s": round(max(0.0, late), 1),
            "polling": len(self._tasks),
            "looked_at": self.live.devices if self.live else 0,
            "cpu_s": round(time.process_time(), 1),
            "waiting_rows": self.keeper.waiting_rows,
            "written_rows": self.keeper.written_rows,
            "dropped_rows": self.keeper.dropped_rows,
            **dict(self.counts),
            "wire": dict(self.transport.counts),
        }


def _with_database(work: Callable[[], T]) -> T:
    """Blocking work with a connection that is looked at first."""
    close_old_connections()
    return work()
