"""Agents that refresh their counters now and then: it is learnt beside the polls, and rates are dated by it."""

import asyncio
import socket
import statistics
import time

import pytest
from asgiref.sync import sync_to_async
from django.utils import timezone

from lumtar.core.counters import Flag
from lumtar.domain.inventory.models import Device, DeviceState
from lumtar.domain.inventory.services import add_device
from lumtar.domain.readings.models import Reading
from tests.engine.conftest import adding, collecting, eventually

pytestmark = pytest.mark.django_db(transaction=True)


def is_dated(at_least, **wanted):
    rows = Reading.objects.filter(interface__if_index=1, elapsed_ms__gt=0, **wanted).order_by("at")
    dated = [8000 * row.in_octets / row.elapsed_ms for row in rows if row.flags & Flag.DATED]
    return dated if len(dated) >= at_least else None


async def test_constant_traffic_is_shown_as_such_though_counters_jump_every_two_seconds(stand_in, monkeypatch):
    monkeypatch.setattr("lumtar.core.refresh_learning.VOTES", 1)
    # On a busy machine reads come late, and what came of them may have to be found out again.
    monkeypatch.setattr("lumtar.engine.collector.refreshing.AGAIN_S", 1.0)
    stand_in.device._kept = 0.001
    stand_in.device.set_share(1, 6.0, 6.0)
    stand_in.device.manners.refresh = 2.0
    made = await adding(stand_in, interval=2)
    async with collecting():
        # A late read may have given a first figure that is off: it is found out again until it fits.
        found = DeviceState.objects.filter(
            device=made, refresh_kind="ticks", refresh_low_s__gt=1.8, refresh_high_s__lt=2.2
        )
        await eventually(found.exists, 120)
        since = timezone.now()
        rates = await eventually(lambda: is_dated(4, at__gt=since), 120)
    assert statistics.median(rates) == pytest.approx(60e6, rel=0.02)


async def test_an_agent_that_counts_at_once_is_known_as_one_and_is_not_asked_again(stand_in):
    stand_in.device.set_share(1, 6.0, 6.0)
    made = await adding(stand_in, interval=1)
    stand_in.device._kept = 0.001
    async with collecting() as collector:
        await eventually(lambda: DeviceState.objects.filter(device=made, refresh_kind="at once").exists(), 60)
        assert collector.targets[made.pk].refresh_due > time.monotonic() + 3600
    rows = await sync_to_async(list)(Reading.objects.filter(interface__if_index=1))
    assert not any(row.flags & Flag.DATED for row in rows)


async def test_what_was_learnt_outlives_the_collector_and_the_phase_is_found_again(stand_in):
    stand_in.device._kept = 0.001
    stand_in.device.set_share(1, 6.0, 6.0)
    stand_in.device.manners.refresh = 1.0
    made = await adding(stand_in, interval=1)
    async with collecting():
        await eventually(lambda: Reading.objects.filter(elapsed_ms__gt=0).exists(), 30)
    learnt = {"refresh_kind": "ticks", "refresh_low_s": 0.999, "refresh_high_s": 1.001}
    await DeviceState.objects.filter(device=made).aupdate(**learnt)
    async with collecting() as collector:
        await eventually(lambda: collector.targets and collector.targets[made.pk].dating.refresh.anchor, 30)
        await eventually(lambda: is_dated(2), 30)


async def test_debians_agent_ticks_every_three_seconds(snmpd):
    made = await sync_to_async(add_device)(
        "127.0.0.1", port=snmpd.port, kind="v2c", secret={"community": "correct-word"}
    )
    await Device.objects.filter(pk=made.pk).aupdate(interval_s=2, timeout_s=2, tries=2)
    ending = asyncio.Event()

    async def send():
        """Keep the loopback interface busy."""
        with socket.socket(type=socket.SOCK_DGRAM) as sink, socket.socket(type=socket.SOCK_DGRAM) as source:
            sink.bind(("127.0.0.1", 0))
            while not ending.is_set():
                source.sendto(bytes(9000), sink.getsockname())
                await asyncio.sleep(0.005)

    sending = asyncio.create_task(send())
    try:
        async with collecting():
            state = await eventually(lambda: DeviceState.objects.exclude(refresh_kind="unknown").first(), 120)
    finally:
        ending.set()
        await sending
    assert state.refresh_kind in ("ticks", "on demand")
    assert 2.8 < (state.refresh_low_s + state.refresh_high_s) / 2 < 3.3
