"""A collector, the devices it polls, and what it stored."""

import asyncio
import time
from contextlib import asynccontextmanager

import pytest
from asgiref.sync import sync_to_async
from django.db import connections

from bench.ports import free_port
from lumtar.domain.alarms.models import Rule
from lumtar.domain.inventory.models import Device
from lumtar.domain.inventory.services import add_device
from lumtar.domain.readings.models import Newest, Reading
from lumtar.engine.collector.collector import Collector
from tests.alarms import first_rules, plan_for
from tests.lab.boxes import COMMUNITY, agent, box


@pytest.fixture(autouse=True)
def quick(monkeypatch, let_go, transactional_db):
    """Everything that waits for a minute in earnest waits for a second here."""
    monkeypatch.setattr("lumtar.engine.collector.collector.FLUSH", 0.1)
    monkeypatch.setattr("lumtar.engine.collector.collector.CONFIGURE", 0.4)
    monkeypatch.setattr("lumtar.core.schedule.CONFIRM_AFTER", 0.4)
    monkeypatch.setattr("lumtar.engine.collector.write_queue.PAUSE", 0.2)
    first_rules()
    Rule.objects.exclude(measure="lumtar").update(plan=plan_for("duty@oskelund.example"))
    yield
    connections.close_all()


@pytest.fixture(autouse=True)
async def connected(quick):
    """Another module's tests may have ended the connection of the thread that asynchronous tests ask by."""
    await sync_to_async(connections.close_all)()


@pytest.fixture
async def stand_in(loopback):
    """One stand-in device."""
    running = agent(box(address=next(loopback)), free_port(), time.time())
    yield running
    running.close()


def add(running, *, interval=1, timeout=3.0, community=COMMUNITY, **more):
    """Add a device for a stand-in, polled every second. A short timeout is for devices that are to be silent."""
    address, port = running.address
    made = add_device(address, port=port, kind="v2c", secret={"community": community}, **more)
    Device.objects.filter(pk=made.pk).update(interval_s=interval, timeout_s=timeout, tries=2)
    return made


adding = sync_to_async(add)


@asynccontextmanager
async def collecting():
    """A collector that runs for a while and then ends as it would by a signal."""
    collector = Collector()
    task = asyncio.create_task(collector.run())
    try:
        yield collector
    finally:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)


async def eventually(look, patience=60.0):
    """The first true answer of a question to the database."""
    limit = time.monotonic() + patience
    while True:
        found = await sync_to_async(look)()
        if found:
            return found
        if time.monotonic() > limit:
            raise AssertionError(f"in {patience} s never: {look}")
        await asyncio.sleep(0.1)


def reached():
    """How far the busy port has been counted: the raw counter and when it was read; None before the first poll."""
    newest = Newest.objects.filter(interface__if_index=1).first()
    return newest and (newest.counters[0], newest.at)


def is_whole(start, end):
    """Whether the readings between two such points hold every octet that the device counted, and all of the time."""
    rows = Reading.objects.filter(interface__if_index=1, at__gt=start[1], at__lte=end[1])
    octets, ms = (sum(values) for values in zip(*rows.values_list("in_octets", "elapsed_ms"), strict=True))
    # sysUpTime is read shortly before the counters, and the answer's arrival is what the collector's clock tells.
    return octets == end[0] - start[0] and abs(ms / 1000 - (end[1] - start[1]).total_seconds()) < 1.0
