"""A router's own tests: found, followed, stored as a path's intervals, and told of when they cannot be read."""

import time
from datetime import timedelta

import pytest
from asgiref.sync import sync_to_async
from django.utils import timezone

from bench.ports import free_port
from lab.scenario import Box, Port
from lumtar.core.paths import device_tests as core
from lumtar.domain.inventory.models import Device
from lumtar.domain.paths import services, store
from lumtar.domain.paths.models import Path
from lumtar.engine.collector import device_tests
from lumtar.engine.errands import list_tests
from tests.engine.conftest import adding, collecting, eventually
from tests.lab.boxes import agent

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
async def router(loopback, monkeypatch):
    """A stand-in router with tests of its own, one a second; intervals are closed after seconds."""
    monkeypatch.setattr(device_tests, "EVERY_S", 0.5)
    monkeypatch.setattr(core, "GRACE_S", 1.0)
    monkeypatch.setattr(core, "INTERVAL_S", 3)
    monkeypatch.setattr("lab.ping_tests.EVERY_S", 0.5)
    made = Box("dep-wan-1", "Depot", "wan", next(loopback), up_days=3.0)
    made.ports = [Port(1, "wan1", "Transport B", terms=[(0, 1.0, True)])]
    running = agent(made, free_port(), time.time())
    yield running
    running.close()


@sync_to_async
def path(device, asked="network/voice Hexwater"):
    return services.keep(Path(name=asked, kind="device", device=device, asked=asked), "anna")


def rows(made):
    now = timezone.now()
    return store.read([made.pk], now - timedelta(hours=1), now)


async def test_its_tests_are_listed_by_owner_and_name(router):
    device = await adding(router)
    credential = (await Device.objects.aget(pk=device.pk)).credential_id
    asked = {"address": device.address, "port": device.port, "credentials": [credential]}
    (told,) = [line async for line in list_tests(asked)]
    assert told["fault"] == ""
    assert [(test["owner"], test["name"], test["target"], test["remembers"]) for test in told["tests"]] == [
        ("network", "voice Dunmere", "10.5.0.1", 50), ("network", "voice Hexwater", "10.9.0.1", 50), ("network", "voice Saltby", "10.19.0.1", 50),
    ]  # fmt: skip


async def test_its_probes_become_intervals_of_a_path(router):
    now = timezone.now()
    await sync_to_async(store.MINUTES.ensure)(now - timedelta(days=1), now)
    made = await path(await adding(router))
    async with collecting():
        found = await eventually(lambda: len(rows(made)) >= 3)
    assert found
    stored = await sync_to_async(rows)(made)
    assert len(set(stored["at"].tolist())) == len(stored)
    known = stored["p50"][stored["sent"] > stored["lost"]]
    assert ((known > 5_000) & (known < 60_000)).all(), "microseconds, of milliseconds that the router tells"
    # However a busy machine spreads them: none is there twice.
    assert 10 < stored["sent"].sum() <= (await Path.objects.aget(pk=made.pk)).told_number


async def test_why_there_is_nothing_is_told(router):
    made = await path(await adding(router), "network/voice Nowhere")
    async with collecting():
        await eventually(lambda: Path.objects.get(pk=made.pk).problem)
        assert "remembers no probes of this test" in (await Path.objects.aget(pk=made.pk)).problem
        router.device.manners.silent = True
        await eventually(lambda: "no answer" in Path.objects.get(pk=made.pk).problem)
