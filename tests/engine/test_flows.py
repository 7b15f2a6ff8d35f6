"""From datagrams to stored totals: what stand-ins export is what their counters say, and what is stored is what is shown."""

import asyncio
import socket
import time
from datetime import UTC, datetime, timedelta
from uuid import uuid4

import numpy as np
import pytest
from asgiref.sync import sync_to_async
from django.test import Client

from bench.ports import free_port
from lab.builder import build
from lab.device import Device as StandIn
from lab.faults import carry_out
from lab.flow_encoding import Encoder
from lab.flows import Exporting
from lab.routing import site_number
from lumtar.core.flows import totals
from lumtar.core.flows.records import MAPPED, address_numbers, empty
from lumtar.domain.flows import exporters as kept
from lumtar.domain.flows import jobs, queries, recording, store
from lumtar.domain.flows.asking import Asked
from lumtar.domain.flows.models import Exporter, Hour, Minute, NetworkHour, Record
from lumtar.domain.inventory.models import Device, Interface, Site
from lumtar.domain.inventory.services import add_device
from lumtar.domain.operation.services import beat
from lumtar.domain.readings.rollups import hour_of
from lumtar.engine.flows import flow_receiver, inventory
from lumtar.engine.flows.flow_receiver import FlowReceiver
from lumtar.engine.flows.totals import Totals
from lumtar.wire.flows.exporters import Domain

NOW = 1_795_440_000.0 + 30
"""Half a minute after a full one."""


@pytest.fixture(scope="module")
def county():
    return build()


class Caught(Exporting):
    """Datagrams are caught instead of sent."""

    def __init__(self, *given):
        self.caught = []
        super().__init__(*given)

    def _send(self, device, datagrams):
        self.caught += [(data, device.box.address) for data in datagrams]


def county_known(county):
    """The county as an inventory: interfaces are numbered in their order."""
    numbers, devices, number = {}, {}, 0
    for place, box in enumerate(county.boxes, 1):
        devices[box.address] = place
        for port in box.ports:
            number += 1
            numbers[box.name, port.index] = number
    by_device = {
        place: {port.index: numbers[box.name, port.index] for port in box.ports}
        for place, box in enumerate(county.boxes, 1)
    }
    return numbers, inventory.Known(
        devices,
        {place: totals_interfaces(indexes) for place, indexes in by_device.items()},
        {pk: place for place, indexes in by_device.items() for pk in indexes.values()},
    )


def totals_interfaces(indexes):
    from lumtar.core.flows.lookups import Interfaces

    return Interfaces.of(indexes)


def test_flows_of_stand_ins_are_what_their_counters_say_to_the_octet(county):
    times = iter([NOW, NOW + 20, NOW + 40])
    clock = [NOW]
    devices = {box.name: StandIn(county, box, NOW - 4000, lambda: clock[0], ()) for box in county.boxes}
    exporting = Caught(county, devices, NOW - 4000, 9)
    counted = {}
    for at in times:
        clock[0] = at
        counted[at] = {name: device.counters(at) for name, device in devices.items()}
        exporting.export(at)
    numbers, known = county_known(county)
    made = Totals(known=known)
    made.take(exporting.caught, NOW + 41)
    assert made.counted["malformed"] == made.counted["unknown_records"] == made.counted["wrong_clock"] == 0
    rows = made.closed(NOW + 41, whole=True)
    for name in ("hex-wan-1", "dep-wan-1", "cen-fw-1", "ald-wan-1", "dun-wan-1", "gar-wan-1"):
        box = county.box(name)
        for row, port in enumerate(box.ports):
            if port.name not in ("wan1", "wan2", "outside") or not port.terms:
                continue
            for way in (0, 1):
                mine = (rows["interface"] == numbers[name, port.index]) & (rows["way"] == way)
                wanted = int(counted[NOW + 40][name][row, way] - counted[NOW][name][row, way])
                assert int(rows["octets"][mine].sum()) == wanted, (name, port.name, way)
    assert all(domain.lost == 0 for domain in made.exporters.domains.values())
    branch = rows[rows["interface"] == numbers["hex-wan-1", 1]]
    assert (branch["src_hi"] > 0).any(), "version 6 is among them"


def test_records_of_strangers_and_wrong_clocks_are_counted(county):
    clock = [NOW]
    devices = {box.name: StandIn(county, box, NOW - 4000, lambda: clock[0], ()) for box in county.boxes}
    exporting = Caught(county, devices, NOW - 4000, 9)
    exporting.export(NOW)
    clock[0] = NOW + 20
    exporting.export(NOW + 20)
    made = Totals()
    made.take([*exporting.caught, (b"nonsense", "192.0.2.9")], NOW + 86400 * 3)
    assert made.counted["unknown_records"] == made.counted["records"] > 1000
    # Samples of packets have no clock: they are dated when they come.
    sampled = sum(domain.records for (_, how, _), domain in made.exporters.domains.items() if how.startswith("sflow"))
    assert sampled and made.counted["wrong_clock"] == made.counted["records"] - sampled
    assert made.strange["192.0.2.9"]["why"].endswith("it is neither NetFlow 5 or 9 nor IPFIX nor sFlow 5")
    assert len(made.closed(NOW + 21, whole=True)) == 0


def test_memory_is_bounded_however_much_comes(monkeypatch):
    monkeypatch.setattr("lumtar.engine.flows.totals.MOST_OPEN", 1000)
    made = Totals()
    for minute in range(12):
        part = np.zeros(200, totals.CONVERSATION)
        part["minute"], part["src_lo"], part["octets"], part["interface"] = 1000 + minute, np.arange(200), 5, 1
        made._open.setdefault(1000 + minute, []).append(part)
        made._rows += 200
    rows = made.closed(1000 * 60.0)
    assert made.counted["closed_early"] >= 7 and made._rows <= 500
    assert int(rows["octets"].sum()) == 5 * 200 * made.counted["closed_early"], (
        "what was closed early is stored, not lost"
    )


@pytest.fixture
def wan(db):
    """A router at a site with two ports."""
    device = add_device("127.0.9.9", name="hex-wan-1", site="Hexwater", kind="v2c", secret={"community": "word"})
    for index in (1, 2):
        Interface.objects.create(device=device, if_index=index, name=f"g{index}", label=f"g{index}")
    return device


def conversations(interface, minute, *rows):
    """Rows of (source, goal, octets, application, way) at an interface."""
    made = np.zeros(len(rows), totals.CONVERSATION)
    for place, (source, goal, octets, application, way) in enumerate(rows):
        made["src_lo"][place], made["dst_lo"][place] = MAPPED | source, MAPPED | goal
        made["octets"][place], made["application"][place], made["way"][place] = octets, application, way
    made["interface"], made["minute"], made["packets"], made["flows"] = interface, minute, 1, 1
    made["protocol"], made["port"], made["is_counted"] = 6, 443, made["way"] == 0
    return made


@pytest.fixture
def stored(wan):
    """Two minutes of the hour before the last one, and one of now."""
    port = Interface.objects.get(device=wan, if_index=1)
    now = datetime.now(UTC)
    hour = hour_of(now) - timedelta(hours=1)
    store.ensure_ahead(now)
    minute = int(hour.timestamp() // 60)
    store.append(conversations(port.pk, minute, (1, 9, 1000, 1, 0), (2, 9, 500, 2, 0), (9, 1, 7000, 1, 1)))
    batch = uuid4()
    for _ in range(2):
        store.append(conversations(port.pk, minute + 1, (1, 9, 2**62, 1, 0)), batch)
    store.append(conversations(port.pk, int(now.timestamp() // 60), (3, 9, 40, 0, 0)))
    return port, hour, now


def test_hours_of_the_whole_network_lose_nothing_but_who_was_small(stored, monkeypatch):
    port, hour, _ = stored
    store.append(conversations(port.pk, int(hour.timestamp() // 60) + 5, *((4 + n, 9, 10 + n, 3, 0) for n in range(6))))
    monkeypatch.setattr(store, "MOST_OF_THE_NETWORK", 2)
    store.roll_up(hour)
    begin, end = hour - timedelta(hours=20), hour + timedelta(hours=1)
    counted = {0: Asked(), 1: Asked(interface=port.pk, way=0)}
    by_application = [read(asked, "application", begin, end) for asked in counted.values()]
    assert by_application[0] == by_application[1], "each conversation once, and all of them"
    assert NetworkHour.objects.filter(is_rest=False).count() == 2
    senders = read(Asked(), "sender", begin, end)
    small = read(Asked(sender="0.0.0.4"), "sender", begin, end)
    assert sum(senders.values()) == sum(by_application[0].values()) and len(senders) <= 3
    assert list(small.values()) == [10], "who asks for an address gets the smaller ones as well"
    NetworkHour.objects.all().delete()
    assert read(Asked(), "application", begin, end) == by_application[1], "without that level hours of ports are read"


def read(asked, by, start, end):
    return {row.key: row.octets for row in queries.read(asked, by, start, end).rows}


def test_what_is_stored_is_read_exactly_by_whatever_it_is_put_together(stored):
    port, hour, now = stored
    asked, end = Asked(interface=port.pk, way=0), now + timedelta(minutes=1)
    assert read(asked, "application", hour, end) == {(1,): 1000 + 2**62, (2,): 500, (0,): 40}
    assert read(Asked(interface=port.pk, way=1), "application", hour, end) == {(1,): 7000}
    by_sender = queries.read(asked, "sender", hour, end)
    assert [(row.key[1] & 0xFF, row.octets) for row in by_sender.rows] == [(1, 1000 + 2**62), (2, 500), (3, 40)]
    narrowed = Asked(interface=port.pk, way=0, application=1, sender="0.0.0.1", address="0.0.0.9")
    assert list(read(narrowed, "conversation", hour, end).values()) == [1000 + 2**62]
    assert read(Asked(device=port.device_id), "protocol", hour, end) == {(6,): 1540 + 2**62}, "what came in"
    assert read(Asked(), "DSCP", hour, end) == {(0,): 1540 + 2**62}, "each once"
    assert read(Asked(site=Site.objects.get().pk), "site", hour, end) == {}
    course = queries.read(asked, "application", hour, hour + timedelta(minutes=2))
    assert (
        course.step_s == 60 and course.whole.tolist() == [1500, 2**62] and course.rows[0].line.tolist() == [1000, 2**62]
    )


def test_hours_are_the_sums_of_their_minutes_and_can_be_made_again(stored):
    port, hour, now = stored
    for _ in range(2):
        store.roll_up(hour)
    assert sum(Hour.objects.values_list("octets", flat=True)) == 8500 + 2**62
    asked = Asked(interface=port.pk, way=0)
    whole = queries.read(asked, "application", hour - timedelta(days=1), now + timedelta(minutes=1))
    assert {row.key: row.octets for row in whole.rows} == {(1,): 1000 + 2**62, (2,): 500, (0,): 40}, (
        "hours and what is not summed up yet"
    )
    assert whole.step_s == 3600


def test_what_comes_late_is_summed_up_by_the_next_run_of_the_job(stored):
    port, hour, now = stored
    earlier = hour - timedelta(hours=6)
    store.MINUTES.ensure(earlier, earlier)
    for _ in range(2):
        store.append(conversations(port.pk, int(earlier.timestamp() // 60) + 7, (1, 9, 300, 1, 0)))
        jobs.sum_flows_up(timestamp=0)
    assert sum(Hour.objects.filter(at=earlier).values_list("octets", flat=True)) == 600
    whole = queries.read(Asked(interface=port.pk, way=0), "application", now - timedelta(days=1), now)
    assert sum(row.octets for row in whole.rows) == 600 + 1540 + 2**62


def test_the_smaller_ones_of_an_hour_are_put_together_and_lose_nothing(stored, monkeypatch):
    port, hour, _ = stored
    monkeypatch.setattr(store, "MOST_OF_AN_HOUR", 1)
    minute = int(hour.timestamp() // 60)
    store.append(conversations(port.pk, minute, *((number, 9, number, 1, 0) for number in range(10, 30))))
    store.roll_up(hour)
    rows = Hour.objects.filter(interface=port.pk, way=0)
    assert sum(rows.values_list("octets", flat=True)) == 1500 + 2**62 + sum(range(10, 30))
    assert rows.filter(is_rest=False).count() == 1 and rows.filter(is_rest=True).count() == 2, "one an application"
    found = queries.read(
        Asked(interface=port.pk, way=0), "conversation", hour - timedelta(days=1), hour + timedelta(hours=1)
    )
    assert [row.key[-1] for row in found.rows] == [0, 1], "all that was put together is one row"


def test_old_partitions_go(stored):
    _, _, now = stored
    assert store.drop_old(now) == 0
    assert store.drop_old(now + store.MINUTES.kept + timedelta(hours=3)) >= 2
    assert Minute.objects.count() == 0


def test_exporters_add_up_over_restarts_and_keep_their_templates(wan):
    at = datetime.now(UTC)
    seen = kept.Seen(wan.pk, at, 10, 2, 1, 0, 0, 5.0, 0.2, [[256, 0, [[8, 4, 0]]]], {"0": 64})
    key = ("127.0.9.9", "ipfix", 7)
    kept.keep({key: seen})
    kept.keep({key: kept.Seen(wan.pk, at, 5, 1, 0, 0, 2, 1.0, 0.1)})
    row = Exporter.objects.get()
    assert (row.records, row.datagrams, row.lost, row.malformed) == (15, 3, 1, 2)
    assert kept.stored() == [(key, [[256, 0, [[8, 4, 0]]]], {"0": 64})], "templates stay as they were told of"


@pytest.fixture
async def running(monkeypatch, wan, transactional_db):
    monkeypatch.setenv("LUMTAR_FLOW_PORTS", str(free_port()))
    for name, value in (("READ_S", 0.05), ("STORE_S", 0.2), ("RENEW_S", 0.3), ("RECORD_S", 0.1)):
        monkeypatch.setattr(flow_receiver, name, value)
    made = FlowReceiver("test")
    work = asyncio.create_task(made.run())
    for _ in range(200):
        if made._inlet is not None:
            break
        await asyncio.sleep(0.02)
    yield made, work
    if not work.done():
        work.cancel()
        await asyncio.gather(work, return_exceptions=True)


async def until(true):
    for _ in range(300):
        if await sync_to_async(true)():
            return
        await asyncio.sleep(0.03)
    raise AssertionError("waited in vain")


def two_records(now):
    records = empty(2)
    records["src_lo"], records["dst_lo"] = MAPPED | 0x0A000001, MAPPED | 0x0A000009
    records["octets"], records["packets"], records["input"], records["output"] = 4000, 4, 1, 2
    records["start"] = records["end"] = now
    return records


async def test_messages_over_tcp_are_put_together_and_seen_as_they_come(running):
    receiver, _ = running
    device = await sync_to_async(Device.objects.get)()
    await sync_to_async(recording.look)(device.pk, "somebody")
    await until(lambda: device.pk in receiver.totals.recorder.wanted)
    now = time.time()
    data = b"".join(Encoder("ipfix", domain=3).datagrams(two_records(now), now, now - 600))
    with socket.create_connection((receiver.host, receiver.ports[0]), 3, ("127.0.9.9", 0)) as line:
        # Messages come in whatever pieces TCP makes of them.
        for begin in range(0, len(data), 37):
            line.sendall(data[begin : begin + 37])
            await asyncio.sleep(0.001)
        await until(lambda: Record.objects.filter(device=device).count() == 2)
        line.sendall(b"GET / HTTP/1.1\r\n\r\n")
        await until(lambda: receiver.progress()["malformed"] == 1)
        line.settimeout(3)
        assert line.recv(10) == b"", "whoever sends something else is turned away"
    rows, number = await sync_to_async(recording.read)(
        Asked(device=device.pk), datetime.fromtimestamp(now - 60, UTC), datetime.now(UTC)
    )
    assert number == 2 and {row["octets"] for row in rows} == {4000}
    assert rows[0]["in_id"] and rows[0]["out_id"]


async def test_from_a_datagram_to_stored_totals(running):
    receiver, work = running
    device = await sync_to_async(Device.objects.get)()
    now = time.time()
    records = two_records(now)
    encoder = Encoder("ipfix", domain=7)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as outlet:
        outlet.bind(("127.0.9.9", 0))
        for data in encoder.datagrams(records, now, now - 600):
            outlet.sendto(data, (receiver.host, receiver.ports[0]))
        outlet.sendto(b"nonsense", (receiver.host, receiver.ports[0]))
    await until(lambda: receiver.progress()["records"] == 2 and receiver.progress()["malformed"] == 1)
    assert receiver.progress()["strangers"][0]["address"] == "127.0.9.9"
    await sync_to_async(beat)("flows", datetime.now(UTC), datetime.now(UTC), receiver.progress())
    told = await sync_to_async(Client().get)("/api/v1/health")
    assert "malformed" in told.text and "127.0.9.9" not in told.text, "who sends is for those who sign in"
    await until(lambda: Exporter.objects.filter(device=device, records=2).exists())
    work.cancel()
    await asyncio.gather(work, return_exceptions=True)
    # What was open is stored at the end.
    rows = await sync_to_async(lambda: list(Minute.objects.values_list("interface__if_index", "way", "octets")))()
    assert sorted(rows) == [(1, 0, 8000), (2, 1, 8000)]
    row = await sync_to_async(Exporter.objects.get)()
    assert row.templates and (row.protocol, row.domain) == ("ipfix", 7)
    again = FlowReceiver("again")
    await sync_to_async(again._load)()
    assert len(again.totals.exporters.domains["127.0.9.9", "ipfix", 7].templates) == len(row.templates), (
        "over a restart"
    )


async def test_a_port_that_is_taken_is_told(monkeypatch, wan, transactional_db):
    port = free_port()
    monkeypatch.setenv("LUMTAR_FLOW_PORTS", str(port))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as holder:
        holder.bind(("127.0.0.1", port))
        made = FlowReceiver("test")
        work = asyncio.create_task(made.run())
        await until(lambda: "cannot listen for flows at 127.0.0.1" in made.trouble())
        work.cancel()
        await asyncio.gather(work, return_exceptions=True)


def exported(county, fault, name="hex-wan-1", times=(0, 20, 40)):
    """What one stand-in exporter sends with a fault, in totals; and what its transport counted meanwhile, in and out."""
    clock = [NOW]
    devices = {box.name: StandIn(county, box, NOW - 4000, lambda: clock[0], ()) for box in county.boxes}
    carry_out(devices, {"words": fault})
    exporting = Caught(county, devices, NOW - 4000, 9)
    exporting.encoders = {name: exporting.encoders[name]}
    counted = []
    for at in times:
        clock[0] = NOW + at
        counted.append(devices[name].counters(NOW + at)[0, :2])
        exporting.export(NOW + at)
    numbers, known = county_known(county)
    made = Totals(known=known)
    made.take(exporting.caught, NOW + times[-1] + 1)
    rows = made.closed(NOW + times[-1] + 1, whole=True)
    mine = rows[rows["interface"] == numbers[name, 1]]
    sums = [int(mine["octets"][mine["way"] == way].sum()) for way in (0, 1)]
    return made, mine, sums, (counted[-1] - counted[0]).astype(int).tolist()


def test_faults_of_exporters_are_what_they_say(county):
    made, _, sums, counted = exported(county, ["flows", "hex-wan-1", "lose", "0.3"])
    (domain,) = made.exporters.domains.values()
    assert sums[1] < 0.95 * counted[1] and domain.lost > 20
    _, _, sums, counted = exported(county, ["flows", "hex-wan-1", "sample", "50"])
    assert sums[0] == pytest.approx(counted[0] / 50, rel=0.01)
    made, _, sums, counted = exported(county, ["flows", "hex-wan-1", "skew", "4000"])
    assert sums == counted and made.counted["wrong_clock"] == made.counted["records"] > 100
    assert max(made.skew.values()) == pytest.approx(3999, abs=2)
    made, _, sums, _ = exported(county, ["flows", "hex-wan-1", "templates", "off"])
    (domain,) = made.exporters.domains.values()
    assert sums == [0, 0] and domain.held_sets > 5
    _, _, sums, counted = exported(county, ["flows", "hex-wan-1", "in", "only"])
    assert sums == [counted[0], 0]


def test_a_stranger_and_a_scan_are_part_of_what_is_counted(county):
    _, rows, sums, counted = exported(county, ["stranger", "hex-wan-1", "on"])
    assert sums == counted
    ends = {(int(each["src_hi"]), int(each["src_lo"])) for each in rows}
    assert address_numbers(f"172.31.{site_number('Hexwater')}.66") in ends
    _, rows, sums, counted = exported(county, ["scan", "hex-wan-1", "on"])
    assert sums == counted
    scanned = rows[(rows["port"] == 22) & (rows["way"] == 1)]
    assert len(np.unique(scanned["dst_lo"])) > 450


def test_an_exporter_that_begins_anew_is_not_taken_for_late():
    domain = Domain()
    for sequence in range(0, 5000, 100):
        domain.count(sequence, 100)
    domain.count(5200, 100)
    assert domain.lost == 200
    domain.count(5000, 100)
    assert domain.lost == 100, "one that came late was not lost"
    for sequence in range(0, 3000, 100):
        domain.count(sequence, 100)
    assert domain.lost <= 100 and domain.next_sequence == 3000
    domain.count(3300, 100)
    assert domain.lost >= 300
