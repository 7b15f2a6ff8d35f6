"""The collector: from a device on the wire to readings, alarms and mails in the database."""

import asyncio
import json
import re
import time
from contextlib import closing
from datetime import timedelta

import pytest
from asgiref.sync import sync_to_async
from django.utils import timezone

from bench.ports import free_port
from lab.scenario import Port
from lumtar.core.counters import Flag
from lumtar.domain.alarms import memory, rules
from lumtar.domain.alarms.models import Alarm, AlarmChange, Notification, Rule
from lumtar.domain.inventory import polling, profiles, services
from lumtar.domain.inventory.description import describe, override_speed
from lumtar.domain.inventory.models import (
    Component,
    Device,
    DeviceState,
    Interface,
    InterfaceSpeed,
    PollRequest,
    Profile,
)
from lumtar.domain.inventory.profiles import ProfileSpec
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.models import Process
from lumtar.domain.readings import ethernet
from lumtar.domain.readings.models import ComponentReading, DeviceReading, EthernetErrors, Gap, Newest, Reading
from lumtar.domain.reports import context
from lumtar.domain.selfwatch.health import health
from lumtar.engine.collector.write_queue import WriteQueue
from tests.conftest import cut_everybody_else
from tests.engine.conftest import adding, collecting, eventually, is_whole, reached
from tests.lab.boxes import agent, box

pytestmark = pytest.mark.django_db(transaction=True)
UPLINK = {"if_index": 1}


def rated():
    """Readings of the busy port that have a rate."""
    return list(Reading.objects.filter(interface__if_index=1, elapsed_ms__gt=0).order_by("at"))


def counted():
    """Readings in a row above the limit that are kept."""
    pairs = memory.load("interface", list(Device.objects.values_list("pk", flat=True)))
    return int(pairs.held.max(initial=0))


async def far_limits():
    """Limits far from what is set: within a second's interval a late answer alone moves the figure by a fifth."""
    levels = [{"severity": 4, "limit": 60, "clear": 40}]
    await Rule.objects.filter(name="Utilisation").aupdate(levels=levels)


async def test_a_new_device_is_described_polled_and_stored(stand_in):
    device = await adding(stand_in)
    async with collecting() as collector:
        start = await eventually(reached)
        readings = await eventually(lambda: rated() if len(rated()) >= 3 else None)
        end = await eventually(lambda: reached() if reached()[1] > readings[-1].at else None)
        standing = collector.progress()
    assert await sync_to_async(is_whole)(start, end)
    assert all(reading.in_octets > 0 and reading.elapsed_ms > 0 for reading in readings)
    stored = await Device.objects.aget(pk=device.pk)
    assert (stored.name, stored.model, stored.maker) == ("tst-acc-1", "FH-2100 access switch", "Fernhall Systems")
    assert await Interface.objects.acount() == 3
    newest = await Newest.objects.aget(interface__if_index=1)
    assert newest.in_percent == pytest.approx(newest.in_bps / 1e7, rel=0.01)
    assert (await Newest.objects.aget(interface__if_index=3)).oper == 2
    newest = {
        (reading.component.kind, reading.component.name): reading.value
        async for reading in ComponentReading.objects.select_related("component").order_by("at")
    }
    assert newest[("supply", "Power supply 1")] == newest[("fan", "Fan 1")] == 3
    assert newest[("poe port", "PoE port 2")] == 2 and newest[("poe budget", "PoE budget")] == 370
    assert 40 < newest[("memory", "Memory")] < 54
    assert newest[("storage", "Flash")] == pytest.approx(100 * 31 / 120)
    assert {"processor", "sensor"} < {kind for kind, _ in newest}
    # A state that does not change is not told with every poll; a device that is recognised begins anew.
    assert await ComponentReading.objects.filter(component__kind="fan").acount() <= 2
    assert await ComponentReading.objects.acount() > 0 and await DeviceReading.objects.acount() > 0
    state = await DeviceState.objects.aget()
    assert state.reach == "answers" and state.rtt_ms > 0 and state.next_poll_at > state.polled_at
    speed = await InterfaceSpeed.objects.aget(interface__if_index=1)
    assert (speed.in_bps, speed.in_source) == (10**9, "ifHighSpeed")
    assert standing["devices"] == 1 and standing["interfaces"] == 3
    assert (await Process.objects.aget(name="collector")).detail["devices"] == 1


async def test_the_time_that_describing_takes_is_in_no_rate(stand_in):
    """The first poll asks dozens of things before it counts; the clock that belongs to the counters is read after them."""
    stand_in.device.manners.delay = 0.05
    stand_in.device.set_share(1, 30, 30)
    await adding(stand_in, interval=4)
    async with collecting():
        first = (await eventually(rated))[0]
    assert first.elapsed_ms > 300
    assert first.in_octets * 8000 / first.elapsed_ms == pytest.approx(0.30 * 1e9, rel=0.25)


async def test_a_change_while_it_is_described_is_seen_by_the_next_poll(stand_in):
    from lumtar.wire import ber, oids

    asked = {oids.IF_TABLE_LAST_CHANGE: 0, oids.SYS_DESCR: 0}
    before = {}

    def counting(prefix, values):
        asked[prefix] += 1
        # Changed once, between the first look and the second.
        if prefix == oids.IF_TABLE_LAST_CHANGE:
            return [ber.integer(100 if asked[prefix] == 1 else 200, ber.TIME_TICKS)]
        return values

    for column in stand_in.device.mib.columns:
        for oid in asked:
            if oid.startswith(column.prefix):
                before[oid] = column.values
                column.values = lambda at, oid=oid: counting(oid, before[oid](at))
    assert len(before) == 2
    # With a profile it would be described once more in any case.
    await Profile.objects.all().adelete()
    await adding(stand_in)
    async with collecting():
        await eventually(lambda: asked[oids.SYS_DESCR] >= 2)


async def test_utilisation_raises_one_alarm_and_one_mail_and_clears_it(stand_in):
    await far_limits()
    await adding(stand_in)
    async with collecting():
        await eventually(rated)
        stand_in.device.set_share(1, 10, 96)
        alarm = await eventually(lambda: Alarm.objects.filter(is_cleared=False).first())
        assert alarm.severity == 4
        await asyncio.sleep(2)
        assert await AlarmChange.objects.acount() == 1
        stand_in.device.set_share(1, 10, 10)
        await eventually(lambda: Alarm.objects.filter(is_cleared=True).exists())
    changes = [change async for change in AlarmChange.objects.order_by("at")]
    assert [change.severity for change in changes] == [4, 0]
    assert re.match(r"\d+ % full outbound: [\d.]+ [MG]b/s of 1 Gb/s, for three readings in a row", changes[0].text)
    assert changes[1].text.startswith("Back to ") and changes[1].text.endswith(" %, below 40 %")
    assert await Notification.objects.acount() == 2


async def test_an_alarm_survives_the_collectors_restart(stand_in):
    await far_limits()
    await adding(stand_in)
    stand_in.device.set_share(1, 40, 96)
    changes = AlarmChange.objects.filter(alarm__type="utilisation").order_by("at")
    async with collecting():
        raised = await eventually(lambda: changes.first())
    async with collecting():
        already = await sync_to_async(lambda: len(rated()))()
        await eventually(lambda: len(rated()) > already + 3)
        assert [change.text async for change in changes.all()] == [raised.text]
        stand_in.device.set_share(1, 10, 10)
        cleared = await eventually(lambda: changes.filter(severity=0).first())
    assert [change.text async for change in changes.all()] == [raised.text, cleared.text]


async def test_the_count_towards_an_alarm_survives_too(stand_in):
    await Rule.objects.filter(name="Utilisation").aupdate(times=1000, of=1000)
    await adding(stand_in)
    stand_in.device.set_share(1, 40, 96)
    async with collecting():
        await eventually(lambda: counted() >= 2)
    kept = await sync_to_async(counted)()
    async with collecting():
        await eventually(lambda: counted() > kept)
    stand_in.device.set_share(1, 1, 1)
    async with collecting():
        await eventually(lambda: counted() == 0)


async def test_no_reading_is_lost_or_doubled_by_a_restart(stand_in):
    """Counters go on from where they were: the volume across a restart is what the device counted."""
    await adding(stand_in)
    stand_in.device.set_share(1, 30, 30)
    async with collecting():
        start = await eventually(reached)
        await eventually(lambda: len(rated()) >= 2)
    async with collecting():
        already = await sync_to_async(lambda: len(rated()))()
        await eventually(lambda: len(rated()) >= already + 2)
    assert await sync_to_async(lambda: is_whole(start, reached()))()


@pytest.fixture
def described(monkeypatch):
    """The names of devices that were described, as it happens."""
    names = []

    def noting(device, *told):
        names.append(device.address)
        return describe(device, *told)

    monkeypatch.setattr("lumtar.engine.collector.poller.describe", noting)
    return names


async def test_what_is_known_is_not_described_again_after_a_restart(stand_in, described):
    """Thousands of devices would take minutes for it, in which they are not polled."""
    device = await adding(stand_in)
    async with collecting():
        await eventually(lambda: len(rated()) >= 1 and ComponentReading.objects.exists())
    assert described == [device.address]
    before = await ComponentReading.objects.acount()
    stored = await sync_to_async(lambda: list(Interface.objects.order_by("pk").values()))()
    async with collecting():
        number = len(await sync_to_async(rated)())
        await eventually(lambda: len(rated()) >= number + 2 and ComponentReading.objects.count() > before)
    assert described == [device.address]
    assert await sync_to_async(lambda: list(Interface.objects.order_by("pk").values()))() == stored


def renamed(made):
    made.name = "tst-acc-9"


def with_another_port(made):
    made.ports.append(Port(4, "g4", ""))


def with_another_alias(made):
    made.ports[0].alias = "Another"


def with_another_sensor(made):
    made.sensors[0] = ("Outlet temperature", 31.0, 3.0)


CHANGES = {
    renamed: lambda: Device.objects.filter(sys_name="tst-acc-9").exists(),
    with_another_port: lambda: Interface.objects.count() == 4,
    with_another_alias: lambda: Interface.objects.filter(**UPLINK, alias="Another").exists(),
    with_another_sensor: lambda: Component.objects.filter(name="Outlet temperature").exists(),
}


@pytest.mark.parametrize("change", CHANGES)
async def test_what_changed_while_no_collector_ran_is_taken_over(loopback, described, change):
    address, port = next(loopback), free_port()
    with closing(agent(box(address=address), port, time.time())) as before:
        await adding(before)
        async with collecting():
            await eventually(lambda: len(rated()) >= 1)
    assert not await sync_to_async(CHANGES[change])()
    made = box(address=address)
    change(made)
    with closing(agent(made, port, time.time() - 600)):
        async with collecting():
            await eventually(CHANGES[change])
    assert described == [address] * 2


async def test_a_profile_that_was_made_while_no_collector_ran_is_given(stand_in, described):
    device = await adding(stand_in)
    async with collecting():
        await eventually(lambda: len(rated()) >= 1)
    enterprise = (await Device.objects.aget()).sys_object_id
    await sync_to_async(profiles.save)(ProfileSpec("Of this test", prefixes=[enterprise]), "anna")
    async with collecting():
        await eventually(lambda: Device.objects.filter(profile__name="Of this test").exists())
    assert described == [device.address] * 2


async def test_a_device_that_falls_silent_is_an_alarm_with_its_reason_and_a_gap(stand_in):
    await adding(stand_in, timeout=0.3)
    async with collecting():
        await eventually(rated)
        stand_in.device.manners.silent = True
        alarm = await eventually(lambda: Alarm.objects.filter(type="unreachable").first())
        change = await alarm.changes.afirst()
        assert change.text.startswith(f"Does not answer: no answer on UDP {stand_in.address[1]} in 2 tries")
        assert (await DeviceState.objects.aget()).reach == "silent"
        gap = await Gap.objects.aget(reason="silent")
        assert gap.end is None
        stand_in.device.manners.silent = False
        await eventually(lambda: Alarm.objects.filter(type="unreachable", is_cleared=True).exists())
    gap = await Gap.objects.aget(reason="silent")
    assert gap.end is not None
    kinds = [entry.text async for entry in Entry.objects.filter(kind="reach").order_by("at")]
    assert "does not answer" in kinds[0] and "answers again" in kinds[1]


async def test_a_restarted_device_is_marked_and_counts_on(stand_in):
    await adding(stand_in)
    async with collecting():
        await eventually(rated)
        stand_in.device.restart()
        entry = await eventually(lambda: Entry.objects.filter(kind="restart").first())
        assert "tst-acc-1 restarted, was up" in entry.text
        marked = await eventually(lambda: [r for r in Reading.objects.all() if r.flags & Flag.RESTARTED])
        assert all(reading.in_octets == 0 for reading in marked)
        await eventually(lambda: [r for r in rated() if r.at > marked[0].at])
    assert all(reading.in_octets < 1e9 for reading in await sync_to_async(rated)())


async def test_a_wrap_leaves_no_spike(stand_in):
    await adding(stand_in)
    async with collecting():
        await eventually(rated)
        stand_in.device.near_wrap(1, 2.0)
        await eventually(lambda: [r for r in rated() if r.flags & Flag.WRAPPED])
    wrapped = [r for r in await sync_to_async(rated)() if r.flags & Flag.WRAPPED]
    assert 0 < wrapped[0].in_octets * 8000 / wrapped[0].elapsed_ms < 1e9


async def test_a_link_that_goes_down_is_news(stand_in):
    await adding(stand_in)
    async with collecting():
        await eventually(rated)
        stand_in.device.set_link(1, False)
        entry = await eventually(lambda: Entry.objects.filter(kind="state").first())
        assert entry.text == "tst-acc-1 Uplink up → down"
        await eventually(lambda: Newest.objects.filter(interface__if_index=1, oper=2).exists())


async def test_an_interface_that_disappears_between_polls(stand_in):
    await adding(stand_in)
    async with collecting():
        await eventually(rated)
        for column in stand_in.device.mib.columns:
            if (
                len(column.indexes) == 3 and column.prefix.startswith(b"\x2b\x06\x01\x02\x01\x02\x02")
            ) or column.prefix.startswith(b"\x2b\x06\x01\x02\x01\x1f\x01\x01"):
                whole = column.values
                column.indexes, column.values = column.indexes[:2], lambda at, whole=whole: whole(at)[:2]
        gone = await eventually(lambda: Interface.objects.filter(gone_at__isnull=False).first())
        assert gone.name == "g3"
        already = await sync_to_async(lambda: len(rated()))()
        await eventually(lambda: len(rated()) > already + 1)
    assert await Entry.objects.filter(text="port g3 is gone").aexists()
    assert not await Alarm.objects.aexists()


@pytest.mark.parametrize(("high", "low"), [(0, 0), (0, 4_294_967_295)])
async def test_a_speed_that_says_nothing_gives_rates_without_shares(stand_in, high, low):
    from lumtar.wire import ber, oids

    for column in stand_in.device.mib.columns:
        if column.prefix == oids.IF_SPEED:
            column.values = lambda at: [ber.integer(low, ber.GAUGE32)] * 3
        if column.prefix == oids.IF_HIGH_SPEED:
            column.values = lambda at: [ber.integer(high, ber.GAUGE32)] * 3
    await adding(stand_in)
    async with collecting():
        await eventually(lambda: Newest.objects.filter(in_bps__gt=1e6).exists())
    newest = await Newest.objects.aget(interface__if_index=1)
    assert newest.in_percent is None and newest.port_bps == 0


async def test_names_with_foreign_and_control_bytes(stand_in):
    from lab.mib import text
    from lumtar.wire import oids

    names = [text("Büro\x00 Süd".encode()), text(b"caf\xe9\x1b[2J"), text(b"\xff\xfe")]
    next(column for column in stand_in.device.mib.columns if column.prefix == oids.IF_ALIAS).values = lambda at: names
    await adding(stand_in)
    async with collecting():
        await eventually(lambda: Interface.objects.count() == 3)
    labels = [port.label async for port in Interface.objects.order_by("if_index")]
    assert labels == ["Büro Süd", "café[2J", "ÿþ"]


@pytest.mark.parametrize(
    ("manners", "words"),
    [
        ({"cut_short": True}, "cut short"),
        ({"wrong_number": True}, "another request"),
        ({"other_address": True}, "which was not asked"),
    ],
)
async def test_garbage_is_a_plain_reason_and_disturbs_nobody_else(stand_in, loopback, manners, words):
    from tests.lab.boxes import agent, box

    other = agent(box("tst-acc-2", next(loopback)), free_port(), stand_in.device.epoch)
    for name, value in manners.items():
        setattr(stand_in.device.manners, name, value)
    bad, good = await adding(stand_in, timeout=0.3), await adding(other)
    async with collecting():
        state = await eventually(lambda: DeviceState.objects.filter(device=bad, reach="silent").first())
        assert words in state.reason
        assert "Traceback" not in state.reason
        await eventually(lambda: Reading.objects.filter(interface__device=good, elapsed_ms__gt=0).exists())
    other.close()


@pytest.mark.parametrize(
    ("address", "community", "words"),
    [("no-such-host.invalid", "x", "is not known here"), (None, "wrong", "a wrong community looks the same")],
)
async def test_what_cannot_be_reached_says_why(stand_in, address, community, words):
    device = await adding(stand_in, timeout=0.3, community=community)
    if address:
        await Device.objects.filter(pk=device.pk).aupdate(address=address)
    async with collecting():
        state = await eventually(lambda: DeviceState.objects.filter(reach="silent").first())
    assert words in state.reason


async def test_a_changed_rule_holds_within_seconds(stand_in):
    await adding(stand_in)
    async with collecting():
        await eventually(rated)
        rule = await Rule.objects.aget(name="Utilisation")
        wanted = {"levels": [{"severity": 2, "limit": 0.1, "clear": 0.05}], "times": 1, "of": 1}
        await sync_to_async(rules.change)(rule.pk, wanted, "anna")
        alarm = await eventually(lambda: Alarm.objects.first())
    assert alarm.severity == 2


async def test_a_device_that_is_switched_off_is_left_alone(stand_in):
    device = await adding(stand_in)
    async with collecting():
        await eventually(rated)
        await Device.objects.filter(pk=device.pk).aupdate(enabled=False)
        await asyncio.sleep(2)
        polled = (await DeviceState.objects.aget()).polled_at
        await asyncio.sleep(2)
        assert (await DeviceState.objects.aget()).polled_at == polled


async def test_a_time_without_a_collector_is_a_gap_that_says_so(stand_in):
    from datetime import timedelta

    from django.utils import timezone

    then = timezone.now() - timedelta(minutes=30)
    await Process.objects.acreate(name="collector", kind="collector", started_at=then, beat_at=then)
    await adding(stand_in)
    async with collecting():
        gap = await eventually(lambda: Gap.objects.first())
    assert gap.device_id is None and gap.start == then
    assert gap.words == "the collector was not running"


async def test_the_database_goes_away_and_comes_back(stand_in, monkeypatch):
    """Readings wait while every connection is cut, and nothing is missing afterwards."""
    from django.db.backends.base.base import BaseDatabaseWrapper
    from django.db.utils import OperationalError

    await adding(stand_in)
    stand_in.device.set_share(1, 30, 30)
    away = asyncio.Event()
    connect = BaseDatabaseWrapper.connect

    def refused(self):
        if away.is_set():
            raise OperationalError("connection refused: the database is stopped")
        return connect(self)

    async with collecting() as collector:
        await eventually(rated)
        start = await eventually(reached)
        monkeypatch.setattr(BaseDatabaseWrapper, "connect", refused)
        away.set()
        await sync_to_async(cut_everybody_else)()
        async with asyncio.timeout(30):
            while collector.write_queue.waiting_rows < 9:
                await asyncio.sleep(0.1)
        away.clear()
        await eventually(lambda: collector.write_queue.waiting_rows < 6)
    assert await sync_to_async(lambda: is_whole(start, reached()))()
    assert collector.write_queue.dropped_rows == 0


async def test_what_does_not_fit_the_queue_is_counted_and_becomes_a_gap(stand_in):
    await adding(stand_in)
    async with collecting() as collector:
        await eventually(rated)
        waiting = WriteQueue(most_rows=9)
        batches = []
        collector.write_queue.put, put = batches.append, collector.write_queue.put
        while sum(batch.rows for batch in batches) < 24:
            await asyncio.sleep(0.1)
        collector.write_queue.put = put
        for batch in batches:
            waiting.put(batch)
        assert waiting.dropped_rows >= 12
        assert waiting.waiting_rows <= 9
        await sync_to_async(waiting.start)()
        await eventually(lambda: waiting.waiting_rows == 0)
        await sync_to_async(waiting.finish)()
    gap = await Gap.objects.filter(reason="dropped").afirst()
    assert gap is not None and "readings were dropped, the database was away" in gap.words


async def test_health_tells_the_state_of_each_process_and_of_the_newest_data(stand_in):
    assert "the collector is not running" in (await sync_to_async(health)()).words
    await adding(stand_in)
    async with collecting():
        await eventually(rated)
        told = await sync_to_async(health)()
    assert [process.name for process in told.processes if process.alive] == ["collector"]
    assert told.readings_fresh
    assert "the worker is not running" in told.words
    assert json.dumps(told.processes[0].detail)


async def test_what_speaks_no_snmp_is_watched_by_echo_or_by_port(loopback):
    """It answers once an interval, not more often, and a closed port has its own words."""
    listener = await asyncio.start_server(lambda reader, writer: writer.close(), "127.0.0.1", 0)
    port = listener.sockets[0].getsockname()[1]
    echo = await sync_to_async(add_device)(next(loopback), way="icmp")
    opened = await sync_to_async(add_device)("127.0.0.1", port=port, way="tcp")
    closed = await sync_to_async(add_device)("127.0.0.1", port=free_port(), way="tcp")
    await Device.objects.aupdate(interval_s=1)
    async with collecting():
        await eventually(lambda: DeviceReading.objects.filter(device=echo).count() >= 5)
        await eventually(lambda: DeviceReading.objects.filter(device=opened).count() >= 3)
        state = await eventually(lambda: DeviceState.objects.filter(device=closed, reach="silent").first())
    assert "is closed: the host answers" in state.reason
    assert not await Interface.objects.aexists()
    times = await sync_to_async(lambda: list(DeviceReading.objects.filter(device=echo).order_by("at")))()
    assert (times[-1].at - times[2].at).total_seconds() > 0.5 * (len(times) - 3)
    listener.close()


async def test_a_retired_device_is_left_alone_until_it_is_restored(stand_in):
    device = await adding(stand_in)
    async with collecting() as collector:
        await eventually(rated)
        await sync_to_async(services.retire)(device.pk, "anna")
        await eventually(lambda: device.pk not in collector.targets)
        await asyncio.sleep(1.5)
        before = await DeviceReading.objects.acount()
        await asyncio.sleep(1.5)
        assert await DeviceReading.objects.acount() == before
        await sync_to_async(services.restore)(device.pk, "anna")
        await eventually(lambda: DeviceReading.objects.count() > before + 1)
    assert not await Gap.objects.filter(end=None).aexists()


async def test_poll_now_is_done_at_once_and_leaves_a_record(stand_in):
    device = await adding(stand_in)
    async with collecting():
        await eventually(rated)
        await Device.objects.aupdate(interval_s=3600)
        await asyncio.sleep(1.0)
        asked = await sync_to_async(polling.ask)(device.pk, "anna")
        done = await eventually(lambda: PollRequest.objects.filter(pk=asked.pk).exclude(done_at=None).first())
    record = done.record
    assert record["fault"] == "" and record["took_ms"] > 0
    first = record["exchanges"][0]
    assert (first["kind"], first["asked"], first["answers"]) == ("GET", 3, 3)
    assert {each["kind"] for each in record["exchanges"]} == {"GET", "GETBULK"}
    assert [line["label"] for line in record["computed"]] == ["Uplink", "g2", "g3"]
    assert record["computed"][0]["in_bps"] > 0 and record["computed"][0]["seconds"] > 0


async def test_poll_now_of_a_silent_device_says_why(stand_in):
    device = await adding(stand_in, timeout=0.3)
    async with collecting():
        await eventually(rated)
        stand_in.device.manners.silent = True
        asked = await sync_to_async(polling.ask)(device.pk, "anna")
        done = await eventually(lambda: PollRequest.objects.filter(pk=asked.pk).exclude(done_at=None).first())
    assert "no answer on UDP" in done.record["fault"] and done.record["computed"] == []
    assert done.record["exchanges"][-1]["fault"] == done.record["fault"]
    await Device.objects.aupdate(enabled=False)
    with pytest.raises(ValueError, match="switched off"):
        await sync_to_async(polling.ask)(device.pk, "anna")


async def test_a_sold_speed_holds_from_now_on_and_not_before(stand_in):
    await adding(stand_in)
    stand_in.device.set_share(1, 10, 10)
    async with collecting():
        await eventually(rated)
        before = await eventually(lambda: Newest.objects.filter(in_percent__gt=8, in_percent__lt=12).first())
        await sync_to_async(override_speed)(before.interface_id, 200_000_000, None, "anna")
        after = await eventually(
            lambda: Newest.objects.filter(
                interface_id=before.interface_id, in_percent__gt=40, in_percent__lt=60
            ).first()
        )
        assert 0.15 < after.out_percent / after.in_percent < 0.25
        await sync_to_async(override_speed)(before.interface_id, None, None, "anna")
        await eventually(lambda: Newest.objects.filter(interface_id=before.interface_id, in_percent__lt=12).first())
    speeds = [
        (each.in_bps, each.in_source)
        async for each in InterfaceSpeed.objects.filter(interface_id=before.interface_id).order_by("since")
    ]
    assert speeds == [(10**9, "ifHighSpeed"), (200_000_000, "override"), (10**9, "ifHighSpeed")]
    with pytest.raises(ValueError, match="between 1 kb/s"):
        await sync_to_async(override_speed)(before.interface_id, 5, None, "anna")


async def test_ports_keep_their_history_when_a_restart_renumbers_them(stand_in):
    await adding(stand_in)
    async with collecting():
        await eventually(rated)
        before = {port.name: port.pk async for port in Interface.objects.all()}
        await sync_to_async(stand_in.device.renumber)(10)
        await eventually(lambda: Interface.objects.filter(if_index=11).exists())
        at = await sync_to_async(lambda: Reading.objects.latest("at").at)()
        await eventually(
            lambda: Reading.objects.filter(interface_id=before["g1"], at__gt=at, in_octets__gt=0).count() >= 2
        )
    assert {port.name: port.pk async for port in Interface.objects.all()} == before
    assert {port.if_index async for port in Interface.objects.filter(gone_at=None)} == {11, 12, 13}
    texts = [entry.text async for entry in Entry.objects.filter(kind="inventory")]
    assert "port Uplink has ifIndex 11 now, was 1" in texts
    assert not [text for text in texts if "gone" in text or "new" in text]


async def test_what_only_ethernet_counts_is_kept_where_there_is_some(stand_in, monkeypatch):
    monkeypatch.setattr("lumtar.engine.collector.reading.EVERY", 1.0)
    await adding(stand_in)
    stand_in.device.set_errors(1, 50)
    async with collecting():
        await eventually(lambda: EthernetErrors.objects.count() >= 2)
    assert {row.interface_id async for row in EthernetErrors.objects.all()} == {
        (await Interface.objects.aget(if_index=1)).pk
    }
    rows = [row async for row in EthernetErrors.objects.all()]
    counted, seconds = (sum(values) for values in zip(*((row.fcs_errors, row.seconds) for row in rows), strict=True))
    assert counted == pytest.approx(50 * seconds, rel=0.5) and not any(row.late_collisions for row in rows)
    assert (await Interface.objects.aget(if_index=1)).duplex == 3
    now = timezone.now()
    port = await Interface.objects.aget(if_index=1)
    beside = await sync_to_async(context.read)(port.pk, port.device_id, now - timedelta(hours=1), now)
    assert beside.ethernet["fcs_errors"] == sum([row.fcs_errors async for row in EthernetErrors.objects.all()])
    await sync_to_async(ethernet.drop_old)(now + timedelta(days=5000))
    assert await EthernetErrors.objects.acount() == 0
