"""What is stored as frames: the values that rules would have seen, and the gaps in them."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

from lumtar.core.counters import Flag
from lumtar.domain.inventory.models import Component, Interface, InterfaceDuplex, InterfaceSpeed
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings import partitions
from lumtar.domain.readings.models import ComponentReading, DeviceReading, Gap, Reading
from lumtar.domain.reports import frames, rehearsals

pytestmark = pytest.mark.django_db
END = datetime.now(UTC).replace(second=0, microsecond=0)
START = END - timedelta(hours=2)


@pytest.fixture
def device():
    partitions.ensure((END - timedelta(days=2)).date(), (END + timedelta(days=1)).date())
    return add_device("127.0.9.1", name="hex-wan-1", kind="v2c", secret={"community": "word"})


@pytest.fixture
def ports(device):
    return Interface.objects.bulk_create(
        Interface(device=device, if_index=n, name=f"g{n}", label=f"g{n}") for n in (1, 2)
    )


def read(port, minute, in_octets, *, elapsed_ms=60_000, flags=0, errors=0):
    return Reading(
        interface=port,
        at=START + timedelta(minutes=minute),
        in_octets=in_octets,
        out_octets=0,
        in_packets=1000,
        out_packets=0,
        in_errors=errors,
        out_errors=0,
        in_discards=0,
        out_discards=0,
        elapsed_ms=elapsed_ms,
        oper=1,
        flags=flags,
    )


def speed(port, minute, bps):
    return InterfaceSpeed(
        interface=port,
        since=START + timedelta(minutes=minute),
        port_bps=bps,
        in_bps=bps,
        out_bps=bps,
        in_source="high",
        out_source="high",
    )


def of(measure, *subjects):
    return frames.of_measure(measure, [each.pk for each in subjects], START, END)


def column(history, measure, place):
    """(minute, value) of one subject."""
    at, values = history.frame.at[:, place], history.frame.values[measure][:, place]
    return [
        (round((second - START.timestamp()) / 60), float(value))
        for second, value in zip(at, values, strict=True)
        if second > 0
    ]


def test_shares_are_of_the_speed_in_force_then(ports):
    InterfaceSpeed.objects.bulk_create([speed(ports[0], -10, 10**8), speed(ports[0], 5, 10**7)])
    Reading.objects.bulk_create([read(ports[0], minute, 7_500_000) for minute in (4, 6)])
    # 7.5 MB in a minute are 1 Mb/s.
    assert column(of("load", ports[0]), "load", 0) == [(4, 1.0), (6, 10.0)]


def test_without_a_speed_there_is_no_share_and_yet_a_rate(ports):
    Reading.objects.bulk_create([read(ports[0], 4, 7_500_000)])
    assert np.isnan(of("load", ports[0]).frame.values["load"]).all()
    assert column(of("in", ports[0]), "in", 0) == [(4, 1_000_000.0)]


def test_a_void_reading_counted_nothing_which_is_not_zero(ports):
    void = {"elapsed_ms": 0, "flags": int(Flag.RESTARTED)}
    Reading.objects.bulk_create([read(ports[0], 1, 0, errors=3), read(ports[0], 2, 0, **void)])
    found = column(of("errors", ports[0]), "errors", 0)
    assert found[0] == (1, 3.0) and found[1][0] == 2 and np.isnan(found[1][1])


def test_subjects_with_fewer_values_end_earlier_and_keep_their_own_times(ports):
    Reading.objects.bulk_create([read(ports[0], minute, 60 * minute) for minute in (1, 2, 3)])
    Reading.objects.bulk_create([read(ports[1], 2, 600)])
    history = of("in", *ports)
    assert history.subjects == [ports[0].pk, ports[1].pk] and history.frame.at.shape == (3, 2)
    assert [minute for minute, _ in column(history, "in", 0)] == [1, 2, 3]
    assert [minute for minute, _ in column(history, "in", 1)] == [2]


def test_a_port_without_readings_has_none_and_nobody_stumbles(ports):
    assert of("in", *ports).frame.at.shape == (0, 2)


def test_of_a_device_polls_that_were_answered_and_those_of_a_silence(device):
    for minute in (1, 2, 8):
        DeviceReading.objects.create(device=device, at=START + timedelta(minutes=minute), rtt_ms=minute, poll_ms=9)
    Gap.objects.create(
        device=device,
        reason=Gap.Reason.SILENT,
        start=START + timedelta(minutes=2),
        end=START + timedelta(minutes=8),
        words="no answer",
    )
    found = column(of("unanswered", device), "unanswered", 0)
    assert found == [(1, 0.0), (2, 0.0), *((minute, 1.0) for minute in range(3, 8)), (8, 0.0)]
    trips = column(of("round_trip", device), "round_trip", 0)
    assert trips[0] == (1, 1.0) and np.isnan(trips[3][1])


def test_a_silence_that_lasts_is_one_until_now(device):
    Gap.objects.create(
        device=device, reason=Gap.Reason.SILENT, start=END - timedelta(minutes=5), end=None, words="no answer"
    )
    assert [value for _, value in column(of("unanswered", device), "unanswered", 0)] == [1.0] * 4


def test_of_components_only_the_kind_that_is_measured(device):
    processor = Component.objects.create(device=device, kind="processor", index="1", name="Processor 1", unit="%")
    fan = Component.objects.create(device=device, kind="fan", index="1", name="Fan 1", unit="state")
    for component, value in ((processor, 70.0), (fan, 2.0)):
        ComponentReading.objects.create(component=component, at=START + timedelta(minutes=1), value=value)
    history = of("processor", processor, fan)
    assert column(history, "processor", 0) == [(1, 70.0)] and np.isnan(column(history, "processor", 1)[0][1])
    faulty = column(of("faulty", processor, fan), "faulty", 1)
    assert faulty == [(1, 1.0)]


def test_what_is_in_use_is_rehearsed_and_nothing_else(device, ports):
    Component.objects.create(device=device, kind="fan", index="1", name="Fan 1", unit="state", gone_at=END)
    ports[1].gone_at = END
    ports[1].save()
    assert rehearsals.subjects_of("interface") == [ports[0].pk]
    assert rehearsals.subjects_of("component") == [] and rehearsals.subjects_of("device") == [device.pk]
    assert rehearsals.subjects_of("interface", 'label is "g1"') == [ports[0].pk]
    device.enabled = False
    device.save()
    assert rehearsals.subjects_of("interface") == rehearsals.subjects_of("device") == []


def test_a_link_that_runs_slower_than_it_did(ports):
    InterfaceSpeed.objects.bulk_create([speed(ports[0], -10, 10**9), speed(ports[0], 5, 10**8)])
    Reading.objects.bulk_create([read(ports[0], minute, 0) for minute in (4, 6)])
    assert column(of("speed_kept", ports[0]), "speed_kept", 0) == [(4, 100.0), (6, 10.0)]
    assert np.isnan(of("speed_kept", ports[1]).frame.values["speed_kept"]).all()


def test_half_duplex_from_when_on_it_was_seen(ports):
    for minute, duplex in ((2, 3), (5, 2)):
        InterfaceDuplex.objects.create(interface=ports[0], since=START + timedelta(minutes=minute), duplex=duplex)
    Reading.objects.bulk_create([read(ports[0], minute, 0) for minute in (1, 4, 6)])
    found = column(of("half_duplex", ports[0]), "half_duplex", 0)
    assert np.isnan(found[0][1]) and found[1:] == [(4, 0.0), (6, 1.0)]


def polled(device, *minutes):
    for minute in minutes:
        DeviceReading.objects.create(device=device, at=START + timedelta(minutes=minute), rtt_ms=1, poll_ms=9)


def entry(device, kind, minute, text, port=None):
    Entry.objects.create(device=device, kind=kind, at=START + timedelta(minutes=minute), text=text, interface=port)


def test_time_since_the_start_of_a_device(device):
    polled(device, 1, 6, 9)
    entry(device, Entry.Kind.RESTART, 5, "hex-wan-1 restarted, was up 3 days")
    found = column(of("uptime", device), "uptime", 0)
    assert np.isnan(found[0][1]) and found[1:] == [(6, 60.0), (9, 240.0)]


def test_interfaces_are_gone_until_they_are_listed_again_or_a_day_is_over(device, ports):
    Interface.objects.update(role="uplink")
    polled(device, 1, 3, 5, 7)
    entry(device, Entry.Kind.INVENTORY, 2, "port g1 is gone", ports[0])
    entry(device, Entry.Kind.INVENTORY, 4, "port g2 is gone", ports[1])
    entry(device, Entry.Kind.INVENTORY, 6, "port g1 is listed again", ports[0])
    # The other came back with many others, which are not told one by one; its readings tell.
    Reading.objects.bulk_create([read(ports[1], 6, 0)])
    assert column(of("gone", device), "gone", 0) == [(1, 0.0), (3, 1.0), (5, 2.0), (7, 0.0)]
    Interface.objects.update(role="access")
    assert {value for _, value in column(of("gone", device), "gone", 0)} == {0.0}
