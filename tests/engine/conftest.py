"""A collector, the devices it polls, and what it stored."""

import asyncio
import time
from contextlib import asynccontextmanager

import pytest
from asgiref.sync import sync_to_async
from django.db import connections

from lumtar.domain.alarms.models import Rule
from lumtar.domain.inventory.models import Device
from lumtar.domain.inventory.services import add_device
from lumtar.engine.collector.collector import Collector
from tests.conftest import free_port
from tests.lab.boxes import COMMUNITY, agent, box


@pytest.fixture(autouse=True)
def quick(monkeypatch, let_go, transactional_db):
    """Everything that waits for a minute in earnest waits for a second here."""
    monkeypatch.setattr("lumtar.engine.collector.collector.FLUSH", 0.1)
    monkeypatch.setattr("lumtar.engine.collector.collector.CONFIGURE", 0.4)
    monkeypatch.setattr("lumtar.core.schedule.CONFIRM_AFTER", 0.4)
    monkeypatch.setattr("lumtar.engine.collector.keeper.PAUSE", 0.2)
    # A migration made these; a test with its own transactions finds the tables empty.
    Rule.objects.get_or_create(name="Utilisation", defaults={"type": "utilisation"})
    Rule.objects.get_or_create(name="Reachability", defaults={"type": "unreachable", "readings": 2, "severity": 5})
    Rule.objects.update(mail_to=["duty@oskelund.example"])
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


def add(running, *, interval=1, community=COMMUNITY, **more):
    """Add a device for a stand-in, polled every second."""
    address, port = running.address
    made = add_device(address, port=port, kind="v2c", secret={"community": community}, **more)
    Device.objects.filter(pk=made.pk).update(interval_s=interval, timeout_s=0.3, tries=2)
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


async def eventually(look, patience=12.0):
    """The first true answer of a question to the database."""
    limit = time.monotonic() + patience
    while True:
        found = await sync_to_async(look)()
        if found:
            return found
        if time.monotonic() > limit:
            raise AssertionError(f"in {patience} s never: {look}")
        await asyncio.sleep(0.1)
