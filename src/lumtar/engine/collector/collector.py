"""The collector's loop: who is due, polls side by side, batches once a second."""

import asyncio
import heapq
import os
import time
from collections import Counter
from contextlib import suppress
from dataclasses import asdict
from datetime import UTC, datetime

import structlog

from lumtar.core import schedule
from lumtar.core.profiles import Recognition
from lumtar.domain.inventory import polling
from lumtar.domain.inventory.models import Device
from lumtar.domain.inventory.profiles import recognitions
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.leases import share_of
from lumtar.domain.readings.partitions import ensure_around
from lumtar.engine.batch import Batch, moment
from lumtar.engine.clock import Clock
from lumtar.engine.collector import targets
from lumtar.engine.collector.capturing import Capturing
from lumtar.engine.collector.device_tests import DeviceTests
from lumtar.engine.collector.errand_runner import ErrandRunner
from lumtar.engine.collector.holding import Holding
from lumtar.engine.collector.live import Live
from lumtar.engine.collector.poll_report import computed_rates
from lumtar.engine.collector.poller import Poller
from lumtar.engine.collector.refreshing import Refreshing
from lumtar.engine.collector.surroundings import Surroundings
from lumtar.engine.collector.targets import Target
from lumtar.engine.collector.write_queue import WriteQueue
from lumtar.engine.jobs import JobRunner
from lumtar.engine.recorder import Answer, Recorder, one_of_each_device
from lumtar.engine.service import AWAY, Service, with_database
from lumtar.wire.capture import interfaces
from lumtar.wire.faults import Fault
from lumtar.wire.icmp import Pinger
from lumtar.wire.session import Exchange
from lumtar.wire.transport import Transport

log = structlog.get_logger()

AT_ONCE = int(os.environ.get("LUMTAR_POLLS_AT_ONCE", "256"))
FLUSH, CONFIGURE, ASKED, PARTITIONS = 1.0, 5.0, 0.5, 60.0
"""Seconds between two turns of what is done often."""
CONFIRMED = 3
"""Polls without an answer from which on a silence is sure."""
WAITING_S = 15.0
"""Seconds for which readings have to wait before it is trouble."""


class Collector(Service):
    """Polls every enabled device of its shares at its interval until it is told to stop."""

    kind = "collector"

    def __init__(self, name: str = "", clock: Clock | None = None) -> None:
        super().__init__(name)
        self.clock = clock or Clock()
        self.targets: dict[int, Target] = {}
        self.counts: Counter[str] = Counter()
        self.write_queue = WriteQueue()
        self.holding = Holding(self.name)
        self.recorder = Recorder([])
        self.transport: Transport | None = None
        self.pinger: Pinger | None = None
        self.live: Live | None = None
        self._due: list[tuple[float, int]] = []
        self._fingerprint: int | None = None
        self._configuring = asyncio.Lock()
        self._labelled = 0
        self._answers: list[Answer] = []
        self._room = asyncio.Semaphore(AT_ONCE)
        self._polls: set[asyncio.Task[None]] = set()
        self._rules = targets.RulesInForce()
        self._recognitions: list[Recognition] = []
        self._errands = ErrandRunner(self.name)
        self._capturing = Capturing(self.name)
        self.poller: Poller | None = None
        self._jobs = JobRunner(["sweeps"])
        self._waiting = asyncio.Event()

    async def prepare(self) -> None:
        """Wait for the database, and load what everything stands on."""
        await self.until_there(self._begin)

    async def work(self) -> None:
        """Work until cancelled; what was read by then is stored."""
        self.transport, self.pinger = Transport(), Pinger()
        self.poller = Poller(
            self.transport, self.pinger, self.recorder, self.clock, self.counts, lambda: self._recognitions
        )
        self.write_queue.start()
        self.live = Live(self.targets.get, self.recorder, self.transport, self.clock.time)
        try:
            await self.supervise_all(
                {
                    "polling": self._poll_for_ever,
                    "handing over what was read": self._flush_often,
                    "holding devices": self._hold_often,
                    "following the set-up": self._configure_often,
                    "making partitions": self._make_partitions,
                    "watching the clock": self._watch_clock,
                    "polls that are asked for": self._look_for_requests,
                    "looking live": self.live.run,
                    "following refreshes": Refreshing(self.targets, self.recorder, self.transport, self.clock).run,
                    "asking what is around devices": Surroundings(self.targets, self.recorder, self.transport).run,
                    "tests of devices": DeviceTests(self.targets, self.transport).run,
                    "errands": self._errands.run,
                    "sweeps": self._jobs.run,
                    "captures": self._capturing.run,
                }
            )
        finally:
            for task in [*self._polls, *self._errands.tasks]:
                task.cancel()
            self._flush()
            await asyncio.to_thread(self.write_queue.finish)
            await asyncio.to_thread(self.holding.end)
            self.transport.close()
            self.pinger.close()

    def _begin(self) -> None:
        ensure_around(datetime.now(UTC))
        self.recorder = Recorder([])
        self.recorder.renew_rules(*self._rules.load())
        self._recognitions = recognitions()
        self.holding.begin()

    async def _hold_often(self) -> None:
        """Renew what is held, take over what others have lost, give up what others should have."""
        while True:
            if await asyncio.to_thread(with_database, self.holding.renew):
                # What came is polled from now on, what went is not any more.
                await self._take_over()
            if self.holding.surplus:
                await self._let_go(set(self.holding.surplus))
            await asyncio.sleep(self.holding.every_s)

    async def _take_over(self) -> None:
        self._fingerprint, devices = await asyncio.to_thread(
            with_database, lambda: (targets.fingerprint(), targets.load_devices())
        )
        gaps = self.holding.gaps(devices, self.clock.time())
        if gaps:
            self.write_queue.put(Batch(gaps=gaps))
        await self._configure(devices)

    async def _let_go(self, shares: set[int]) -> None:
        """Stop polling some devices, and hand them over once everything that was read of them is stored."""
        self._flush()
        for number in [number for number in self.targets if share_of(number) in shares]:
            self._drop(number)
        if await asyncio.to_thread(self.write_queue.drain, self.holding.patience_s):
            await asyncio.to_thread(with_database, self.holding.give_surplus)

    def _admit(self, target: Target) -> None:
        device = target.device
        self.targets[device.pk] = target
        self._schedule(target, fresh=self._is_new(device))

    def _is_new(self, device: Device) -> bool:
        known = self.recorder.reach.get(device.pk)
        return known is None or known.answered_at is None

    def _schedule(self, target: Target, fresh: bool = False, confirm: bool = False) -> float:
        now = self.clock.time()
        due = now if fresh else schedule.next_poll(target.device.pk, target.device.interval_s, now)
        if confirm:
            due = min(due, now + schedule.CONFIRM_AFTER)
        due = target.dating.away_from(due)
        self._put(target, due)
        return due

    def _put(self, target: Target, due: float) -> None:
        target.due = due
        heapq.heappush(self._due, (due, target.device.pk))
        self._waiting.set()

    async def _poll_for_ever(self) -> None:
        while True:
            now = self.clock.time()
            while self._due and self._due[0][0] <= now:
                due, number = heapq.heappop(self._due)
                target = self.targets.get(number)
                # Of several entries of a device the one that was put last counts.
                if target is None or target.busy or target.due != due:
                    continue
                target.busy = True
                await self._room.acquire()
                task = asyncio.create_task(self._poll(target))
                self._polls.add(task)
                task.add_done_callback(self._polls.discard)
            self._waiting.clear()
            pause = min(1.0, self._due[0][0] - self.clock.time()) if self._due else 1.0
            # Not wait_for: before Python 3.12 it loses a cancellation that comes together with the event.
            with suppress(TimeoutError):
                async with asyncio.timeout(max(0.0, pause)):
                    await self._waiting.wait()

    async def _watch_clock(self) -> None:
        """Should somebody set the machine's clock, what is known moves along: no poll waits for it, and no rate comes of it."""
        while True:
            await asyncio.sleep(1.0)
            step = self.clock.step()
            if not step:
                continue
            words = f"the clock of {self.name} was set {'forwards' if step > 0 else 'back'} by {abs(step):,.1f} s"
            log.warning("the clock was set", seconds=round(step, 3))
            self._flush()
            self.recorder.move_times(step)
            for target in self.targets.values():
                target.due += step
                target.plan.move_times(step)
                target.dating.move_times(step)
            self._due = [(due + step, number) for due, number in self._due]
            entry = Entry(at=moment(self.clock.time()), kind=Entry.Kind.LUMTAR, text=words)
            self.write_queue.put(Batch(entries=[entry]))
            self._waiting.set()

    async def _poll(self, target: Target) -> None:
        device = target.device
        began, steps, is_new = time.monotonic(), self.clock.steps, self._is_new(device)
        asked, target.asked = target.asked, set()
        trace: list[Exchange] | None = [] if asked else None
        assert self.poller is not None
        try:
            answer = await self.poller.poll(target, trace)
        finally:
            target.busy = False
            self._room.release()
        if target.gone:
            return
        self.counts["skipped"] += int((time.monotonic() - began) // device.interval_s)
        # A first answer is followed by a second one soon, which makes the first rate; so is a silence, to be sure of it.
        reach = self.recorder.reach.get(device.pk)
        is_silent = not isinstance(answer, Answer) and reach is not None and reach.silent_polls < CONFIRMED
        due = self._schedule(target, confirm=is_silent or (is_new and isinstance(answer, Answer)))
        if isinstance(answer, Answer) and steps != self.clock.steps:
            # The clock was set meanwhile, and nobody knows before which of its times: the next poll covers this one.
            self.counts["between clocks"] += 1
        elif isinstance(answer, Answer):
            self.counts["polls"] += 1
            self.counts["requests"] += answer.requests
            answer.next_poll_at = due
            self._answers.append(answer)
        elif answer is not None:
            self.counts["silent"] += 1
            self._hand_over(self.recorder.silent(device, self.clock.time(), answer, due))
        if asked:
            await self._tell(target, asked, began, trace or [], answer if isinstance(answer, Fault) else None)

    async def _tell(
        self, target: Target, asked: set[int], began: float, trace: list[Exchange], fault: Fault | None
    ) -> None:
        """Write down a poll that somebody asked for: each request, and what was computed."""
        computed = (
            [] if fault else [seen for batch in self._flush() for seen in computed_rates(batch, self.recorder, target)]
        )
        record = {
            "took_ms": round(1000 * (time.monotonic() - began), 1),
            "exchanges": [asdict(each) for each in trace],
            "fault": fault.words if fault else "",
            "computed": computed,
        }
        with suppress(*AWAY):
            await asyncio.to_thread(with_database, lambda: polling.answer(list(asked), target.device.pk, record))

    async def _flush_often(self) -> None:
        while True:
            await asyncio.sleep(FLUSH)
            self._flush()

    def _flush(self) -> list[Batch]:
        answers, self._answers = self._answers, []
        batches = [self.recorder.take(each) for each in one_of_each_device(answers)]
        for batch in batches:
            self._hand_over(batch)
        return batches

    def _hand_over(self, batch: Batch) -> None:
        batch.collector = self.name
        batch.fences = self.holding.fences(news.device for news in batch.devices)
        self.write_queue.put(batch)

    async def _look_for_requests(self) -> None:
        while True:
            await asyncio.sleep(ASKED)
            for request, device in await asyncio.to_thread(with_database, polling.waiting):
                target = self.targets.get(device)
                if target is not None and not target.busy and request not in target.asked:
                    target.asked.add(request)
                    self._put(target, self.clock.time())

    async def _configure_often(self) -> None:
        while True:
            await asyncio.sleep(CONFIGURE)
            fingerprint = await asyncio.to_thread(with_database, targets.fingerprint)
            if fingerprint != self._fingerprint:
                self._fingerprint = fingerprint
                await self._configure(await asyncio.to_thread(with_database, targets.load_devices))
            rules, sold, self._recognitions = await asyncio.to_thread(
                with_database, lambda: (self._rules.load(), targets.load_overrides(), recognitions())
            )
            self.recorder.renew_rules(*rules)
            self.recorder.renew_overrides(sold)
            await asyncio.to_thread(
                with_database,
                lambda: self._rules.renew_ranges(self._fingerprint, self.recorder.renew_normal_ranges),
            )
            await self._take_labels()

    async def _take_labels(self) -> None:
        """Take over what ports are called and are for, if that was decided anew."""
        run = await asyncio.to_thread(with_database, targets.labelled)
        if run != self._labelled:
            self.recorder.renew_labels(await asyncio.to_thread(with_database, targets.load_labels))
            self._labelled = run

    async def _configure(self, every: list[Device]) -> None:
        """Take over devices that came, went or were changed, as far as this collector holds them."""
        async with self._configuring:
            await self._take_devices({each.pk: each for each in every if self.holding.holds(each.pk)})

    async def _take_devices(self, devices: dict[int, Device]) -> None:
        gone = set(self.targets) - set(devices)
        if gone:
            # What they said last is told before their places are given to others.
            self._flush()
        for number in gone:
            self._drop(number)
        new = [device for number, device in devices.items() if number not in self.targets]
        if new:
            loaded = await asyncio.to_thread(with_database, lambda: targets.load_targets(self.recorder, new))
            for each in loaded:
                self._admit(each)
        for number, device in devices.items():
            if (target := self.targets.get(number)) is None:
                continue
            if target.busy:
                # What is being read of it may change what is compared here: it is looked at again in a moment.
                self._fingerprint = None
                continue
            is_other_interval = device.interval_s != target.device.interval_s
            targets.follow(target, device)
            self.recorder.names[number] = device.name
            if is_other_interval:
                # From now on: after five minutes' interval the next poll may be far away.
                self.recorder.ledger.state.interval[list(target.slot_of.values())] = device.interval_s
                self._schedule(target)

    def _drop(self, number: int) -> None:
        self.targets.pop(number).gone = True
        self.recorder.drop(number)

    async def _make_partitions(self) -> None:
        while True:
            await asyncio.sleep(PARTITIONS)
            await asyncio.to_thread(with_database, lambda: ensure_around(datetime.now(UTC)))

    def trouble(self) -> str:
        """What is not being done."""
        queue = self.write_queue
        if not queue.is_alive and self.transport is not None and self.tasks:
            return "the thread that stores readings has ended"
        if queue.trouble and queue.oldest_waiting_s > WAITING_S:
            return f"{queue.waiting_rows:,} readings wait, the database does not take them: {queue.trouble}"
        return ""

    def progress(self) -> dict[str, object]:
        """What the collector does and how far behind it is."""
        now = self.clock.time()
        late = max((now - due for due, _ in list(self._due)), default=0.0)
        queue, clock = self.write_queue, self.clock
        return {
            "devices": len(self.targets),
            "shares": len(self.holding.held),
            "capture_interfaces": interfaces(),
            "interfaces": sum(len(target.slot_of) for target in list(self.targets.values())),
            "lag_s": round(max(0.0, late), 1),
            "polling": len(self._polls),
            "looked_at": self.live.devices if self.live else 0,
            "cpu_s": round(time.process_time(), 1),
            **{
                f"{what}_rows": getattr(queue, f"{what}_rows")
                for what in ("waiting", "written", "dropped", "refused", "late")
            },
            "set_aside": {str(number): each.words for number, each in list(queue.set_aside.items())},
            "oldest_waiting_s": round(queue.oldest_waiting_s, 1),
            "stored_until": round(time.time() - queue.oldest_waiting_s, 1),
            "clock_steps": clock.steps,
            "clock_step_s": round(clock.last_step_s, 1),
            "clock_stepped_at": clock.stepped_at,
            **dict(self.counts),
            "wire": dict(self.transport.counts) if self.transport else {},
        }
