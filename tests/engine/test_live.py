"""Looking at ports second by second: read while it is wished, gently, and kept apart from the polls."""

import asyncio
from datetime import timedelta

import pytest
from asgiref.sync import sync_to_async
from django.utils import timezone

from lumtar.domain.inventory.models import Interface
from lumtar.domain.readings import live
from lumtar.domain.readings.models import LiveReading, LiveState, LiveWish, Reading
from tests.engine.conftest import adding, collecting, eventually
from tests.network import fill

pytestmark = pytest.mark.django_db(transaction=True)

wish = sync_to_async(live.wish)


@pytest.fixture(autouse=True)
def brisk(monkeypatch):
    monkeypatch.setattr("lumtar.engine.collector.live.OFTEN", 0.1)
    # How slow devices are spared is a matter of core's tests: here a busy machine must not make a device look slow.
    monkeypatch.setattr("lumtar.core.live.SHARE", 10.0)


async def uplink():
    return await eventually(lambda: Interface.objects.filter(if_index=1, newest__isnull=False).first())


def looks():
    return list(LiveReading.objects.order_by("at"))


async def test_a_port_is_read_every_second_until_nobody_looks(stand_in, monkeypatch):
    monkeypatch.setattr(live, "LASTS", timedelta(seconds=2.5))
    await adding(stand_in, interval=300)
    async with collecting() as collector:
        port = await uplink()
        until = await wish([port.pk], 1, "anna")
        found = await eventually(lambda: looks() if len(looks()) >= 2 else None)
        assert collector.progress()["looked_at"] == 1
        await eventually(lambda: timezone.now() > until and collector.progress()["looked_at"] == 0)
        ended = await LiveReading.objects.acount()
        await asyncio.sleep(1.5)
        assert await LiveReading.objects.acount() == ended
    assert all(look.in_octets > 0 and look.elapsed_ms > 0 for look in found)
    assert sum(look.elapsed_ms for look in found[1:]) > 900 * (len(found) - 1)
    # The history has the polls that fell in this time, and nothing of the looks.
    polled = {reading.at async for reading in Reading.objects.filter(interface=port)}
    assert polled.isdisjoint([look.at async for look in LiveReading.objects.all()])


async def test_two_who_look_at_one_device_cost_one_request_at_the_shorter_pace(stand_in):
    await adding(stand_in, interval=300)
    async with collecting() as collector:
        port = await uplink()
        other = await Interface.objects.aget(if_index=3)
        await wish([port.pk], 10, "anna")
        await eventually(lambda: LiveState.objects.filter(every_s=10).exists())
        # The second one does not wait for the next look of the first.
        await wish([port.pk, other.pk], 1, "bert")
        await eventually(lambda: len(looks()) >= 4)
        assert collector.progress()["looked_at"] == 1
        assert (await LiveState.objects.aget()).every_s == 1
        await sync_to_async(live.end)("bert")
        await eventually(lambda: LiveState.objects.filter(every_s=10).exists())
        assert set(await sync_to_async(live.read)([other.pk], timezone.now() - timedelta(minutes=1))) == {other.pk}


async def test_a_silent_device_is_asked_less_and_less_and_said_to_be_silent(stand_in):
    await adding(stand_in, interval=300, timeout=0.3)
    async with collecting():
        port = await uplink()
        stand_in.device.manners.silent = True
        await wish([port.pk], 1, "anna")
        state = await eventually(lambda: LiveState.objects.filter(every_s__gt=3).first(), 20)
        assert state.words.lower().startswith("no answer on udp")
        assert await LiveReading.objects.acount() == 0


def test_what_cannot_be_looked_at_is_said(network_port):
    port, device = network_port, network_port.device
    with pytest.raises(ValueError, match="Choose 1, 2, 5 or 10 seconds"):
        live.wish([port.pk], 3, "anna")
    with pytest.raises(ValueError, match="13 ports; 12 at most"):
        live.wish(range(1, 14), 2, "anna")
    with pytest.raises(ValueError, match="not there any more"):
        live.wish([999_999], 2, "anna")
    Interface.objects.filter(pk=port.pk).update(gone_at=timezone.now())
    with pytest.raises(ValueError, match="does not list"):
        live.wish([port.pk], 2, "anna")
    device.enabled = False
    device.save()
    with pytest.raises(ValueError, match="switched off"):
        live.wish([port.pk], 2, "anna")
    assert not LiveWish.objects.exists()


def test_the_looks_of_all_people_together_have_a_bound(network_port, monkeypatch):
    monkeypatch.setattr(live, "MOST_AT_A_DEVICE", 1)
    others = Interface.objects.filter(device=network_port.device).exclude(pk=network_port.pk)
    live.wish([others[0].pk], 2, "anna")
    with pytest.raises(ValueError, match="Too many ports of"):
        live.wish([network_port.pk], 2, "bert")
    live.end("anna")
    live.wish([network_port.pk], 2, "bert")
    assert LiveWish.objects.get().interface == network_port


@pytest.fixture
def network_port(transactional_db):
    return Interface.objects.get(device=fill(0.2)[1], if_index=1)
