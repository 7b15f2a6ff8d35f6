"""Carrying sweeps out: every address of the ranges is asked, at the wanted rate, and what answers is looked at."""

import asyncio
import math
from collections.abc import Iterable
from datetime import UTC, datetime
from typing import Any

import structlog
from asgiref.sync import sync_to_async
from procrastinate.contrib.django import app

from lumtar.core.profiles import Table
from lumtar.core.ranges import Ranges, understand
from lumtar.domain.inventory.credentials import in_order, opened
from lumtar.domain.sweeps import results, services
from lumtar.domain.sweeps.models import Run, Sweep
from lumtar.domain.sweeps.results import Book, Found
from lumtar.engine.collector.reading import Plan, discover
from lumtar.engine.trial import Candidate
from lumtar.wire import oids
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.icmp import Pinger
from lumtar.wire.session import Patience, Session
from lumtar.wire.tcp import connect
from lumtar.wire.transport import Transport, resolve

log = structlog.get_logger()
SAY = 1.0
"""Seconds between two words on how far it is."""
SILENT = frozenset({FaultKind.NO_ANSWER})
"""After any other fault asking again is of no use."""


class Pace:
    """Lets so many through a second, evenly; those that come too early wait."""

    def __init__(self, per_second: float) -> None:
        self.taken = 0
        self._step = 1.0 / per_second
        self._next = 0.0

    async def take(self) -> None:
        """Wait for one's turn."""
        now = asyncio.get_running_loop().time()
        # What was not used within the last hundredth of a second is not made up for.
        self._next = max(self._next, now - 0.01)
        wait, self._next = self._next - now, self._next + self._step
        if wait > 0:
            await asyncio.sleep(wait)
        self.taken += 1


class Asker:
    """Asks addresses as a sweep wants it. Use it in one event loop, and close it."""

    def __init__(self, sweep: Sweep, candidates: Iterable[Candidate]) -> None:
        self.pace = Pace(sweep.per_second)
        self._sweep = sweep
        self._candidates = list(candidates)
        self._once = Patience(sweep.timeout_s, 1)
        self._transport, self._pinger = Transport(), Pinger()

    def close(self) -> None:
        """Close the sockets."""
        self._transport.close()
        self._pinger.close()

    async def ask(self, address: str) -> Found | None:
        """What answers at an address; None if nothing does."""
        tasks = [asyncio.create_task(self._snmp(address))]
        if self._sweep.icmp:
            tasks.append(asyncio.create_task(self._icmp(address)))
        tasks += [asyncio.create_task(self._tcp(address, port)) for port in self._sweep.tcp_ports]
        answers = [answer for answer in await asyncio.gather(*tasks) if answer]
        if not answers:
            return None
        merged: dict[str, Any] = {key: value for answer in reversed(answers) for key, value in answer.items()}
        answered = tuple(answer["answered"] for answer in answers)
        return Found(address, **{**merged, "answered": tuple(dict.fromkeys(answered))})

    async def _icmp(self, address: str) -> dict[str, Any]:
        family, _ = resolve(address, self._sweep.port)
        for _ in range(self._sweep.tries):
            await self.pace.take()
            try:
                await self._pinger.ping(family, address, self._sweep.timeout_s, 1)
                return {"answered": "icmp"}
            except Fault as fault:
                if fault.kind not in SILENT:
                    break
        return {}

    async def _tcp(self, address: str, port: int) -> dict[str, Any]:
        family, _ = resolve(address, port)
        for _ in range(self._sweep.tries):
            await self.pace.take()
            try:
                await connect(family, address, port, self._sweep.timeout_s)
                return {"answered": "tcp", "tcp_port": port}
            except Fault as fault:
                if fault.kind not in SILENT:
                    break
        return {}

    async def _snmp(self, address: str) -> dict[str, Any]:
        family, place = resolve(address, self._sweep.port)
        for candidate in self._candidates:
            if not candidate.may_be_sent(place[0]):
                continue
            session = Session(self._transport, family, place, candidate.credential, self._once)
            for _ in range(self._sweep.tries):
                await self.pace.take()
                try:
                    await session.get([oids.SYS_UPTIME])
                except Fault as fault:
                    if fault.kind is FaultKind.PORT_CLOSED:
                        return {}
                    if fault.kind not in SILENT:
                        break
                    continue
                return await self._describe(session, candidate)
        return {}

    async def _describe(self, session: Session, candidate: Candidate) -> dict[str, Any]:
        """What it is. One that answers but does not let itself be read is found all the same."""
        session.patience = Patience(max(1.0, self._sweep.timeout_s), 3)
        found: dict[str, Any] = {"answered": "snmp", "credential": candidate.number}
        try:
            seen = await discover(session, Plan(tables=frozenset({Table.INTERFACES, Table.ENTITY})))
        except Fault as fault:
            log.info("found, but not read", address=session.address[0], reason=fault.words)
            return found
        said = seen.said
        names = ("sys_name", "sys_descr", "sys_object_id", "location", "contact", "maker", "model", "serial")
        identity = {name: getattr(said, name) for name in (*names, "engine_id", "base_mac")}
        return {**found, "said": identity, "ports": len(seen.ports)}


class Sweeping:
    """One run of a sweep."""

    def __init__(self, run: Run, wanted: Ranges, candidates: Iterable[Candidate], book: Book) -> None:
        self.done = self.answered = 0
        self._run, self._wanted, self._book = run, wanted, book
        self._asker = Asker(run.sweep, candidates)
        self._found: asyncio.Queue[Found | None] = asyncio.Queue()
        self._asking: set[asyncio.Task[None]] = set()
        self._error: BaseException | None = None
        self._is_stopped = False

    async def carry_out(self) -> bool:
        """Ask every address.

        Returns
        -------
        whether it went through all of them, rather than being stopped
        """
        chores = [asyncio.create_task(self._say()), asyncio.create_task(self._write())]
        try:
            await self._ask_all()
            self._found.put_nowait(None)
            await chores[1]
            await self._tell()
        finally:
            for chore in chores:
                chore.cancel()
            self._asker.close()
        return not self._is_stopped

    async def _ask_all(self) -> None:
        sweep = self._run.sweep
        # As many as can be waiting for an answer at the wanted rate, and some that are being looked at.
        room = asyncio.Semaphore(64 + math.ceil(sweep.per_second * sweep.timeout_s * sweep.tries))

        async def one(address: str) -> None:
            try:
                if (found := await self._asker.ask(address)) is not None:
                    self.answered += 1
                    self._found.put_nowait(found)
            finally:
                self.done += 1
                room.release()

        for address in self._wanted:
            await room.acquire()
            if self._is_stopped:
                break
            task = asyncio.create_task(one(address))
            self._asking.add(task)
            task.add_done_callback(self._ended)
        while self._asking:
            await asyncio.wait(self._asking)
        if self._error is not None:
            raise self._error

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._asking.discard(task)
        if not task.cancelled():
            self._error = self._error or task.exception()

    async def _write(self) -> None:
        while (found := await self._found.get()) is not None:
            await sync_to_async(self._book.take)(found)

    async def _say(self) -> None:
        while True:
            await asyncio.sleep(SAY)
            await self._tell()

    async def _tell(self) -> None:
        packets = self._asker.pace.taken
        if await sync_to_async(results.progress)(self._run, self.done, self.answered, packets):
            self._is_stopped = True
            for task in self._asking:
                task.cancel()


def _prepare(number: int) -> tuple[Run, Ranges, list[Candidate], Book] | None:
    run = Run.objects.select_related("sweep__site").get(pk=number)
    sweep = run.sweep
    wanted = understand(sweep.ranges, sweep.without)
    if not results.begin(number, len(wanted)):
        return None
    chosen = list(sweep.credentials.all()) or in_order(sweep.site.name if sweep.site else "")
    candidates = [Candidate(each.pk, each.name, opened(each), each.ranges) for each in chosen] if sweep.snmp else []
    return run, wanted, candidates, Book(run)


@app.task(name=services.JOB, queue="sweeps", pass_context=False)
async def sweep(run: int) -> None:
    """Carry one run out."""
    prepared = await sync_to_async(_prepare)(run)
    if prepared is None:
        return
    made, wanted, candidates, book = prepared
    try:
        complete = await Sweeping(made, wanted, candidates, book).carry_out()
    except Exception as error:
        await sync_to_async(results.end)(made, Run.State.FAILED, {}, f"it failed: {error}")
        raise
    counts = await sync_to_async(book.close)(complete)
    await sync_to_async(results.end)(made, Run.State.DONE if complete else Run.State.STOPPED, counts)


@app.periodic(cron="* * * * *")
@app.task(queue="sweeps", queueing_lock="due-sweeps", pass_context=False)
def start_due_sweeps(timestamp: int) -> None:
    """Start sweeps that are due."""
    if started := services.start_due(datetime.fromtimestamp(timestamp, UTC)):
        log.info("sweeps started", names=started)
