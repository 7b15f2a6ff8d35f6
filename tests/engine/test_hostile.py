"""Agents that lie, and what the database refuses: nobody else loses anything, and what is wrong is said of the liar."""

import time
from datetime import UTC, datetime

import pytest
from asgiref.sync import sync_to_async
from django.db import connection

from bench.ports import free_port
from lab.hostile import HOSTILE
from lumtar.domain.inventory.models import Device, DeviceState, Interface
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings.models import DeviceReading, Gap, Reading
from lumtar.engine import store
from lumtar.engine.collector import write_queue
from lumtar.engine.collector.write_queue import WriteQueue
from tests.engine.conftest import adding, collecting, eventually
from tests.lab.boxes import agent, box

pytestmark = pytest.mark.django_db(transaction=True)
SAID_OF = {
    "uptime of 62 bits": "sysUpTime",
    "uptime as text": "sysUpTime",
    "ifType of 40 bits": "ifType",
    "ifHighSpeed as text": "ifHighSpeed",
    "ifOperStatus of 16 bits": "ifOperStatus",
    "octets of 100 bits": "ifHCInOctets",
    "sysName of 60 kB": "sysName",
}
"""The object that is named on the device's page, for some of them."""


@pytest.fixture
async def company(loopback):
    """An honest device, and one of each kind that lies."""
    port = free_port()
    honest = agent(box("tst-acc-0", next(loopback)), port, time.time())
    liars = {}
    for number, (name, lie) in enumerate(HOSTILE.items(), 1):
        liars[name] = agent(box(f"tst-acc-{number}", next(loopback)), port, time.time())
        liars[name].largest = 65_000
        lie(liars[name].device)
    yield honest, liars
    for each in (honest, *liars.values()):
        each.close()


def polls(device):
    return DeviceReading.objects.filter(device=device).count()


async def test_who_lies_harms_nobody_else_and_is_told_of(company):
    honest, liars = company
    good = await adding(honest)
    made = {name: await adding(running, interval=2) for name, running in liars.items()}
    async with collecting() as collector:
        await eventually(lambda: DeviceState.objects.exclude(polled_at=None).count() == len(made) + 1, patience=90)
        # While they are all polled once more, the honest one misses nothing, and whoever does not answer says why.
        before = await sync_to_async(polls)(good)
        await eventually(lambda: polls(good) >= before + 5)
        assert collector.write_queue.is_alive and collector.write_queue.refused_rows == 0
    states = {state.device_id: state async for state in DeviceState.objects.all()}
    assert states[good.pk].reach == "answers" and not states[good.pk].refused
    rows = Reading.objects.filter(interface__device=good, interface__if_index=1, elapsed_ms__gt=0)
    assert await rows.acount() >= 4
    for name, device in made.items():
        state = states[device.pk]
        assert state.reach == "answers" or state.reason, name
        if name in SAID_OF:
            assert SAID_OF[name] in state.refused, (name, state.refused)
    described = await sync_to_async(lambda: set(Interface.objects.values_list("device", flat=True)))()
    assert described >= {made[name].pk for name in ("uptime of 62 bits", "ifType of 40 bits", "octets as text")}
    endless = states[made["endless names of 60 kB"].pk]
    assert "ifAlias" in endless.refused or "MiB" in endless.reason


def test_what_the_database_refuses_is_set_aside_and_the_rest_is_stored(monkeypatch, batch_of):
    """One device of eight gives what a column cannot hold, as if it had passed the wire."""
    devices, batch, at = batch_of(8)
    bad = devices[5]
    batch.seen.status.oper[batch.owners == bad.pk] = 7
    refused = store.readings.append

    def append(interfaces, seen):
        if (seen.status.oper == 7).any():
            # What a value out of range of its column comes to.
            with connection.cursor() as cursor:
                cursor.execute("SELECT 100000::smallint")
        refused(interfaces, seen)

    monkeypatch.setattr(store.readings, "append", append)
    (aside,) = store.write(batch).set_aside
    assert (aside.device, aside.rows) == (bad.pk, 2) and "smallint out of range" in aside.words
    moment = datetime.fromtimestamp(at, UTC)
    stored = set(Reading.objects.filter(at=moment).values_list("interface__device", flat=True))
    assert stored == {device.pk for device in devices} - {bad.pk}
    # Words travel apart: the log entry about the device is there, though its figures are not.
    assert set(Entry.objects.filter(text="a word").values_list("device", flat=True)) == {d.pk for d in devices}
    store.write(batch)
    assert Reading.objects.filter(at=moment).count() == 14 and Entry.objects.filter(text="a word").count() == 8


def test_whatever_a_batch_holds_the_next_one_is_written(monkeypatch, batch_of):
    devices, batch, _ = batch_of(2)
    write = store.write

    def once(given):
        monkeypatch.setattr(store, "write", write)
        raise ValueError("year 146138514 is out of range")

    monkeypatch.setattr(write_queue.store, "write", once)
    queue = WriteQueue()
    queue.start()
    queue.put(batch)
    later = batch.of([device.pk for device in devices], "later")
    queue.put(later)
    queue.finish(10)
    assert queue.refused_rows == 4 and queue.written_rows == 4
    assert not queue.waiting_rows


def test_a_batch_waits_while_there_is_no_room_on_the_disk(monkeypatch, batch_of):
    import psycopg
    from django.db import OperationalError

    _, batch, _ = batch_of(2)
    monkeypatch.setattr(write_queue, "PAUSE", 0.05)
    tries = []
    write = store._write

    def full(given):
        tries.append(given)
        if len(tries) < 4:
            raise OperationalError("could not extend file: No space left on device") from psycopg.errors.DiskFull()
        return write(given)

    monkeypatch.setattr(store, "_write", full)
    queue = WriteQueue()
    queue.put(batch)
    queue.start()
    limit = time.monotonic() + 20
    while not queue.written_rows and time.monotonic() < limit:
        assert not queue.trouble or "No space left" in queue.trouble
        time.sleep(0.01)
    queue.finish(10)
    assert len(tries) == 4 and queue.written_rows == 4
    assert queue.refused_rows == queue.dropped_rows == 0


def test_a_partition_that_is_missing_is_made(batch_of):
    _, batch, at = batch_of(1)
    with connection.cursor() as cursor:
        cursor.execute("SELECT tableoid::regclass::text FROM readings_reading LIMIT 1")
        cursor.execute(f"DROP TABLE {cursor.fetchone()[0]}")
    assert store.write(batch).set_aside == []
    assert Reading.objects.filter(at=datetime.fromtimestamp(at, UTC)).count() == 2


def test_memory_that_waiting_words_take_is_bounded(batch_of):
    devices, batch, _ = batch_of(2)
    queue = WriteQueue(most_octets=200_000)
    queue.put(batch)
    for number in range(500):
        queue.put(batch.of([device.pk for device in devices], f"copy {number}"))
    assert sum(each.octets for each in queue._queue) <= 200_000 + batch.octets
    assert queue.dropped_rows > 0 and queue.dropped_entries > 0
    queue.start()
    queue.finish(20)
    assert Gap.objects.filter(reason="dropped").count() == 2


@pytest.fixture
def batch_of():
    from lumtar.domain.inventory.services import add_device
    from lumtar.domain.readings.partitions import ensure_around
    from lumtar.engine.recorder import Recorder
    from tests.engine.answers import answer

    at = float(int(time.time()))

    def make(number):
        ensure_around(datetime.fromtimestamp(at, UTC))
        devices = [add_device(f"127.0.4.{n}", kind="v2c", secret={"community": "word"}) for n in range(1, number + 1)]
        for device in devices:
            Interface.objects.bulk_create(Interface(device=device, if_index=n, label=f"g{n}") for n in (1, 2))
        recorder = Recorder([])
        slots = {device.pk: recorder.add(device, list(device.interfaces.order_by("if_index"))) for device in devices}
        for moment in (at - 60, at):
            made = recorder.take([answer(device, slots[device.pk], moment) for device in devices])
            if moment < at:
                store.write(made)
        made.entries += [
            Entry(at=datetime.fromtimestamp(at, UTC), kind=Entry.Kind.REACH, device=device, text="a word")
            for device in devices
        ]
        return Device.objects.order_by("pk"), made, at

    return make
