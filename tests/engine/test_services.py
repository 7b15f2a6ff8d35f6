"""Services that survive: tasks that die, collectors that share, clocks that are set, jobs that were left undone."""

import asyncio
import os
import signal
import subprocess
import sys
import time
from contextlib import asynccontextmanager
from datetime import UTC, datetime, timedelta
from uuid import uuid4

import pytest
from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import connection
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from bench.ports import free_port
from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms import causes, queries
from lumtar.domain.alarms.models import Alarm, Call, Consequence, Notification, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory.models import Device, DeviceState
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation import leases
from lumtar.domain.operation.models import Errand, JobRun, Process, Share
from lumtar.domain.operation.registry import SERVICES
from lumtar.domain.operation.services import beat, note_job
from lumtar.domain.readings.jobs import roll_up
from lumtar.domain.readings.models import DeviceReading, Gap, Reading
from lumtar.domain.selfwatch import selfalarms
from lumtar.domain.selfwatch.health import health
from lumtar.engine import service, store
from lumtar.engine.clock import Clock
from lumtar.engine.collector.collector import Collector
from lumtar.engine.service import Service
from tests.alarms import first_rules, plan_for, transition
from tests.conftest import cut_everybody_else
from tests.engine.conftest import adding, collecting, eventually, reached
from tests.lab.boxes import agent, box

pytestmark = pytest.mark.django_db(transaction=True)


class Frail(Service):
    """Has a task that dies at its first tries."""

    kind = "worker"

    def __init__(self, deaths):
        super().__init__("frail")
        self.left = deaths
        self.done = asyncio.Event()

    async def work(self):
        task = self.supervise("a frail task", self._try)
        try:
            await asyncio.Event().wait()
        finally:
            task.cancel()

    async def _try(self):
        if self.left:
            self.left -= 1
            raise RuntimeError("no luck")
        self.done.set()


@pytest.fixture
def hurried(monkeypatch):
    monkeypatch.setattr(service, "FIRST_PAUSE_S", 0.01)
    monkeypatch.setattr(service, "LONGEST_PAUSE_S", 0.05)
    monkeypatch.setattr(service, "BEAT_S", 0.1)


async def test_a_task_that_dies_begins_again_and_is_told_of(hurried):
    made = Frail(deaths=3)
    running = asyncio.create_task(made.run())
    async with asyncio.timeout(20):
        await made.done.wait()
    process = await eventually(lambda: Process.objects.filter(detail__restarted_tasks={"a frail task": 3}).first())
    assert process.trouble == ""
    running.cancel()
    await asyncio.gather(running, return_exceptions=True)
    assert (await Process.objects.aget(name="frail")).stopped_at is not None


async def test_a_task_that_dies_again_and_again_is_a_fault_of_the_service(hurried):
    made = Frail(deaths=1000)
    running = asyncio.create_task(made.run())
    process = await eventually(lambda: Process.objects.exclude(trouble="").first())
    assert process.trouble == "its task “a frail task” ends again and again: RuntimeError: no luck"
    assert any("a frail task" in trouble.words for trouble in (await sync_to_async(health)()).troubles)
    running.cancel()
    await asyncio.gather(running, return_exceptions=True)


@asynccontextmanager
async def named(name):
    """A collector with a name of its own."""
    collector = Collector(name)
    task = asyncio.create_task(collector.run())
    try:
        yield collector, task
    finally:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)


@pytest.fixture
async def six(loopback):
    """Six devices."""
    port = free_port()
    running = [agent(box(f"tst-acc-{number}", next(loopback)), port, time.time()) for number in range(6)]
    yield running
    for each in running:
        each.close()


@pytest.fixture
def soon(monkeypatch):
    monkeypatch.setattr(leases, "LEASE_S", 2.0)
    monkeypatch.setattr("lumtar.engine.collector.holding.Holding.every_s", 0.3)


def split(one, other):
    """Whether two collectors have all six devices between them, neither has none."""
    mine, theirs = set(one.targets), set(other.targets)
    return mine and theirs and not mine & theirs and len(mine | theirs) == 6


def silence_since(moment):
    return DeviceReading.objects.filter(at__gt=moment).values_list("device").distinct().count() < 6


async def test_two_collectors_share_the_devices_and_one_takes_over_from_the_other(six, soon):
    for each in six:
        await adding(each)
    async with named("collector") as (first, _):
        await eventually(lambda: len(first.targets) == 6)
        async with named("collector-2") as (second, _):
            await eventually(lambda: split(first, second))
            began = timezone.now()
            await eventually(lambda: not silence_since(began))
            # It is cut off: it neither renews nor writes, and does not know it.
            stuck = set(second.targets)
            second.holding.renew = lambda: False
            second.write_queue.put, held_back = lambda batch: kept.append(batch), second.write_queue.put
            kept = []
            await eventually(lambda: len(first.targets) == 6)
            await eventually(lambda: sum(batch.rows for batch in kept) > 0)
            taken = timezone.now()
            await eventually(lambda: not silence_since(taken))
            # Now its late writes arrive, and change nothing.
            before = await Reading.objects.acount()
            late = [batch for batch in kept if batch.rows]
            for batch in late:
                held_back(batch)
            await eventually(lambda: second.write_queue.waiting_rows == 0)
            assert second.write_queue.late_rows == sum(batch.rows for batch in late)
            assert before <= await Reading.objects.acount()
    doubled = await sync_to_async(doubles)()
    assert doubled == []
    gaps = [gap async for gap in Gap.objects.filter(reason="collector")]
    assert {gap.device_id for gap in gaps} == stuck
    assert {gap.words for gap in gaps} == {"collector collector-2 was not heard of any more, collector took over"}


def doubles():
    """Pairs of readings of one port that cover the same time, by more than the inaccuracy of their times."""
    with connection.cursor() as cursor:
        cursor.execute(
            """SELECT a.interface_id, a.at, b.at FROM readings_reading a JOIN readings_reading b USING (interface_id)
            WHERE a.at < b.at AND a.elapsed_ms > 0 AND b.elapsed_ms > 0
            AND b.at - b.elapsed_ms * interval '1 millisecond' < a.at - interval '300 milliseconds'"""
        )
        return cursor.fetchall()


async def test_a_second_instance_by_mistake_doubles_nothing(six, soon):
    for each in six[:2]:
        await adding(each)
    async with named("collector") as (first, _), named("collector") as (second, _):
        await eventually(lambda: len(first.targets) + len(second.targets) == 2 and Reading.objects.count() > 40)
        assert not set(first.targets) & set(second.targets)
    assert await sync_to_async(doubles)() == []


def test_a_fence_holds_off_whoever_takes_while_something_is_stored(transactional_db):
    from uuid import uuid4

    mine = uuid4()
    standing = leases.renew(mine, "one", True)
    assert len(standing.held) == leases.SHARES and standing.surplus == []
    assert leases.lost(standing.held) == set()
    other = leases.renew(uuid4(), "two", True)
    assert other.held == {}
    again = leases.renew(mine, "one", True)
    assert len(again.surplus) == leases.SHARES // 2
    leases.give_up(mine, again.surplus)
    assert leases.lost(standing.held) == set()
    with connection.cursor() as cursor:
        cursor.execute("UPDATE operation_share SET until = now() - interval '1 minute'")
    taken = leases.renew(uuid4(), "three", True)
    assert taken.taken and leases.lost(standing.held) == {each.number for each in taken.taken}
    assert Share.objects.filter(holder_name="three").count() == len(taken.taken)


class Told:
    """A clock that is set by the test; what elapses elapses."""

    def __init__(self):
        self.off = 0.0

    def __call__(self):
        return time.time() + self.off


@pytest.mark.parametrize("step", [-120.0, 90.0])
async def test_a_clock_that_is_set_stops_no_poll_and_makes_no_rate(stand_in, step):
    await adding(stand_in)
    stand_in.device.set_share(1, 30, 30)
    wall = Told()
    collector = Collector(clock=Clock(wall))
    task = asyncio.create_task(collector.run())
    try:
        await eventually(lambda: Reading.objects.filter(interface__if_index=1, elapsed_ms__gt=0).count() >= 3)
        polls = collector.counts["polls"]
        wall.off = step
        await eventually(lambda: collector.counts["polls"] >= polls + 8)
        await eventually(lambda: Reading.objects.filter(interface__if_index=1, elapsed_ms__gt=0).count() >= 8)
        told = await eventually(lambda: Entry.objects.filter(kind="lumtar").first())
    finally:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
    assert told.text == f"the clock of collector was set {'forwards' if step > 0 else 'back'} by {abs(step):.1f} s"
    rows = [row async for row in Reading.objects.filter(interface__if_index=1, elapsed_ms__gt=0)]
    rates = [8000 * row.in_octets / row.elapsed_ms for row in rows]
    assert max(rates) < 2.2 * 0.3e9 and max(row.elapsed_ms for row in rows) < 15_000


def worker(**more):
    wanted = settings.DATABASES["default"]
    url = f"postgresql://{wanted['USER']}:{wanted['PASSWORD']}@{wanted['HOST']}:{wanted['PORT']}/{wanted['NAME']}"
    environment = {**os.environ, "LUMTAR_DATABASE_URL": url, **more}
    return subprocess.Popen([sys.executable, "-m", "lumtar.engine.worker"], env=environment)


def until(look, patience=60):
    limit = time.monotonic() + patience
    while not (found := look()):
        assert time.monotonic() < limit, "waited in vain"
        time.sleep(0.1)
    return found


def test_a_job_that_a_dead_worker_left_is_run_again(let_go):
    """It had its lock: without that, no sums were ever made again."""
    with connection.cursor() as cursor:
        cursor.execute("DELETE FROM procrastinate_jobs")
        roll_up.defer(timestamp=int(time.time()))
        cursor.execute(
            "INSERT INTO procrastinate_workers (last_heartbeat) VALUES (now() - interval '5 minutes') RETURNING id"
        )
        dead = cursor.fetchone()[0]
        cursor.execute("UPDATE procrastinate_jobs SET status = 'doing', worker_id = %s", [dead])
    left = ProcrastinateJob.objects.get(task_name="lumtar.domain.readings.jobs.roll_up")
    assert any("stuck" in trouble.words for trouble in health().troubles)
    process = worker()
    try:
        until(lambda: not ProcrastinateJob.objects.filter(pk=left.pk).exists())
        assert until(lambda: JobRun.objects.filter(task=left.task_name).first()).succeeded_at is not None
        # Killed in the middle of its life, another one goes on.
        process.send_signal(signal.SIGKILL)
        process.wait(5)
    finally:
        process.kill()


@pytest.fixture
def well():
    now = datetime.now(UTC)
    for name in (kind.name for kind in SERVICES):
        beat(name, now - timedelta(hours=1), now, {})
    Rule.objects.filter(measure="lumtar").update(plan=plan_for("ops@oskelund.example"))
    return now


def test_what_is_not_done_is_an_alarm_that_reaches_people_and_clears(well):
    assert health().words == "all well" and selfalarms.look() == []
    beat("collector", well - timedelta(hours=1), well, {}, trouble="9 readings wait: no space left")
    (changed,) = selfalarms.look()
    alarm = Alarm.objects.get(pk=changed)
    assert (alarm.device, alarm.severity) == (None, Severity.CRITICAL)
    collector = Process.objects.get(name="collector")
    assert (alarm.resource_kind, alarm.resource_id, alarm.label) == ("collector", collector.pk, "collector")
    assert alarm.changes.get().text == "the collector: 9 readings wait: no space left"
    assert selfalarms.look() == [], "once is enough"
    beat("collector", well - timedelta(hours=1), datetime.now(UTC), {})
    assert selfalarms.look() == [changed]
    alarm.refresh_from_db()
    assert alarm.is_cleared
    assert Notification.objects.filter(target="ops@oskelund.example").count() == 2


@pytest.fixture
def blind(well):
    """A collector none of whose four devices answers; one of another collector does not either."""
    Share.objects.all().delete()
    silent = [
        add_device(f"10.30.0.{number}", name=f"acc-{number}", kind="v2c", secret={"community": "word"})
        for number in range(1, 6)
    ]
    for device in silent:
        Share.objects.create(
            number=leases.share_of(device.pk),
            holder=uuid4(),
            holder_name="other" if device is silent[-1] else "collector",
            until=well + timedelta(minutes=5),
        )
    DeviceState.objects.update(silent_polls=3, polled_at=well)
    first_rules()
    rule, plan = Rule.objects.get(name="Reachability"), plan_for("duty@oskelund.example")
    apply([transition(device, 5, "Does not answer", rule=rule, plan=plan) for device in silent])
    return silent[:-1], silent[-1]


def test_devices_of_a_collector_that_sees_none_follow_from_that(blind):
    mine, other = blind
    (trouble,) = [each for each in health().troubles if each.subject.startswith("sight")]
    assert trouble.words.startswith(f"none of the {len(mine)} devices of the collector collector answers")
    selfalarms.look()
    cause = Alarm.objects.get(qualifier="sight of collector")
    under = Consequence.objects.filter(cause=cause, ended_at=None)
    assert {each.alarm.label for each in under} == {device.name for device in mine}
    assert set(under.values_list("reason", flat=True)) == {"The collector collector sees none of its devices"}
    assert not Call.objects.filter(alarm__in=under.values("alarm")).exclude(next_at=None).exists()
    rows, _ = queries.active(datetime.now(UTC))
    labels = {row.label for row in rows}
    assert labels >= {"collector", other.name} and not labels & {device.name for device in mine}
    # Whoever says that one of them stands by itself is not contradicted by the next look.
    alarm = Alarm.objects.get(device=mine[0])
    assert causes.overrule(alarm.pk, "anna", datetime.now(UTC))
    selfalarms.look()
    assert not Consequence.objects.filter(alarm=alarm, ended_at=None).exists()
    # As soon as one answers, the collector sees, and the rest stands by itself.
    DeviceState.objects.filter(device=mine[0]).update(silent_polls=0)
    selfalarms.look()
    assert Alarm.objects.get(pk=cause.pk).is_cleared
    assert not Consequence.objects.filter(cause=cause, ended_at=None).exists()


def test_a_collector_of_two_silent_devices_is_not_taken_for_blind(blind):
    mine, _ = blind
    Device.objects.filter(pk__in=[device.pk for device in mine[2:]]).update(enabled=False)
    assert not [each for each in health().troubles if each.subject.startswith("sight")]


def test_what_is_about_no_collector_is_about_lumtar_itself(well):
    beat("worker", well - timedelta(hours=1), well, {}, trouble="mails wait")
    selfalarms.look()
    assert list(Alarm.objects.values_list("resource_kind", "resource_id")) == [("lumtar", 0)]


@pytest.mark.parametrize(
    ("detail", "words"),
    [
        ({"stored_until": time.time() - 900}, "nothing that collector reads has been stored for"),
        ({"refused_rows": 12, "set_aside": {"5": "x"}}, "12 readings of 1 devices could not be stored"),
        ({"clock_stepped_at": time.time(), "clock_step_s": -120.0}, "the clock of collector was set back by 120 s"),
        ({"lag_s": 95}, "the collector is 95 s behind"),
    ],
)
def test_health_tells_what_the_collector_cannot_do(well, detail, words):
    device = Device.objects.create(name="x", address="127.0.0.9")
    DeviceState.objects.create(device=device, reach="answers", answered_at=well)
    beat("collector", well - timedelta(hours=1), well, detail)
    assert [each for each in health().troubles if words in each.words], health().troubles


def test_health_tells_of_jobs_that_fail_or_do_not_run(well):
    note_job("a.b.keep_partitions", 60, well, 1.0)
    assert health().ok
    note_job("a.b.keep_partitions", 60, well + timedelta(seconds=1), 1.0, "DataError: bigint out of range")
    assert "the job “keep partitions” fails: DataError: bigint out of range" in health().words
    JobRun.objects.update(failed_at=None, succeeded_at=well - timedelta(hours=2))
    assert "the job “keep partitions” has not run since" in health().words


def test_an_instance_that_vanished_is_missed_and_one_that_was_stopped_is_not(well):
    beat("collector-2", well - timedelta(hours=1), well - timedelta(minutes=5), {}, kind="collector")
    assert "the collector-2 is not running since" in health().words
    Process.objects.filter(name="collector-2").update(stopped_at=well)
    assert health().ok


async def test_what_is_stored_and_what_is_polled_meet_at_the_end(stand_in):
    """An ordinary stop loses nothing, and the shares are free at once."""
    await adding(stand_in)
    async with collecting():
        await eventually(reached)
    assert not await Share.objects.exclude(holder=None).aexists()
    assert store.passes(ConnectionError()) is False


def test_every_job_runs_somewhere():
    from procrastinate.contrib.django import app

    from lumtar.engine.worker import QUEUES

    app.perform_import_paths()
    queues = {task.queue for task in app.tasks.values() if task.name.startswith("lumtar")}
    assert queues == {*QUEUES, "sweeps"}


async def test_what_somebody_waits_for_is_done_where_the_collector_is(stand_in):
    from lumtar.server.api.errands import done_by_a_collector

    device = await adding(stand_in)
    credential = (await Device.objects.aget(pk=device.pk)).credential_id
    told = {"address": device.address, "port": device.port, "credentials": [credential], "tcp_port": None}
    async with collecting():
        await eventually(lambda: Process.objects.filter(kind="collector").exists())
        lines = [line async for line in done_by_a_collector("try", told)]
        (seen,) = [line async for line in done_by_a_collector("object", {**told, "oid": "1.3.6.1.2.1.1.5"})]
    assert lines[-1]["outcome"]["name"] == "tst-acc-1" and "step" in lines[0]
    assert seen["instances"][0]["value"] == "tst-acc-1"
    # Nothing of it stays: what was asked may have held a secret.
    assert not await Errand.objects.aexists()


async def test_without_a_collector_it_is_done_all_the_same(stand_in):
    from lumtar.server.api.errands import done_by_a_collector

    told = {"address": stand_in.address[0], "port": stand_in.address[1], "credentials": [], "tcp_port": None}
    lines = [line async for line in done_by_a_collector("try", told)]
    assert "outcome" in lines[-1]


async def test_it_goes_on_after_the_database_was_away(stand_in):
    """No connection of the last errand is kept, which would be a dead one by the next."""
    from lumtar.server.api.errands import done_by_a_collector

    device = await adding(stand_in)
    credential = (await Device.objects.aget(pk=device.pk)).credential_id
    told = {"address": device.address, "port": device.port, "credentials": [credential], "oid": "1.3.6.1.2.1.1.5"}

    def errand():
        async def lines():
            return [line async for line in done_by_a_collector("object", told)]

        return asyncio.run(lines())

    assert (await asyncio.to_thread(errand))[0]["instances"]
    await asyncio.to_thread(cut_everybody_else)
    assert (await asyncio.to_thread(errand))[0]["instances"]
