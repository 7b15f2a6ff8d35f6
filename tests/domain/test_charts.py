"""Charts hold what was counted, whatever range and resolution is asked for; past screens show what was."""

from datetime import timedelta

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lumtar.core.alarms.severity import Severity
from lumtar.core.counters import Flag
from lumtar.domain.alarms import queries as alarms
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory.description import SpeedChange, note_speeds
from lumtar.domain.readings import rollups, series
from lumtar.domain.readings.models import Gap, Reading
from lumtar.domain.reports import cells, devices, sparks
from lumtar.domain.reports.ports import find as find_ports
from tests.alarms import transition
from tests.domain.conftest import NOW, polled_port
from tests.domain.stored import minutes, store

pytestmark = pytest.mark.django_db
DAY = timedelta(days=1)


@settings(max_examples=20, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    octets=st.lists(st.integers(0, 2**40), min_size=1, max_size=30),
    points=st.integers(10, 1600),
    before=st.integers(0, 600),
)
def test_the_volume_of_a_chart_is_what_was_counted(ports, octets, points, before):
    Reading.objects.all().delete()
    start = NOW - timedelta(hours=6)
    at = minutes(len(octets), start)
    store(ports[0], at, octets, [octet // 2 for octet in octets])
    found = series.read(polled_port(ports[0]), start - timedelta(minutes=before), NOW, points)
    assert found.inward.volume == sum(octets)
    assert found.outward.volume == sum(octet // 2 for octet in octets)
    steps = [value for value in found.in_bps if value is not None]
    assert sum(steps) * found.step_s / 8 >= 0
    assert found.inward.max == pytest.approx(max(octets) * 8 / 60)
    assert found.inward.min <= found.inward.mean <= found.inward.max


@pytest.mark.parametrize(
    ("span", "points", "step"),
    [
        (timedelta(hours=1), 1500, 60),
        (timedelta(hours=24), 1500, 60),
        (timedelta(hours=24), 300, 300),
        (timedelta(days=7), 1500, 600),
        (timedelta(days=30), 1500, 1800),
        (timedelta(days=365), 1500, 21600),
        (timedelta(days=1095), 1500, 86400),
        (timedelta(minutes=10), 1500, 60),
    ],
)
def test_the_step_is_the_finest_that_fits_the_points(ports, span, points, step):
    store(ports[0], minutes(3, NOW - timedelta(minutes=10)), 6000, 0)
    found = series.read(polled_port(ports[0]), NOW - span, NOW, points)
    assert found.step_s == step
    assert len(found.at) <= points + 2
    assert all(b - a == step for a, b in zip(found.at, found.at[1:], strict=False))


def test_steps_stand_on_round_times_whatever_the_range_begins_with(ports):
    store(ports[0], minutes(60, NOW - timedelta(hours=1)), 7500, 0)
    start = NOW - timedelta(hours=1, seconds=37)
    found = series.read(polled_port(ports[0]), start, NOW, 12)
    assert all(at % found.step_s == 0 for at in found.at)
    full = [value for value in found.in_bps if value is not None]
    assert set(full) == {1000.0}


def test_a_year_is_read_from_hours_and_the_rest_from_readings(ports):
    old = NOW - timedelta(days=3)
    store(ports[0], minutes(60, old), 7500, 0)
    rollups.roll_up_due(old.replace(minute=0) + timedelta(hours=2))
    fresh = minutes(10, NOW - timedelta(minutes=10))
    store(ports[0], fresh, 15000, 0)
    rollups.roll_up_due(NOW - timedelta(minutes=10))
    found = series.read(polled_port(ports[0]), NOW - timedelta(days=80), NOW, 1500)
    assert found.source == "hours"
    assert found.inward.volume == 60 * 7500 + 10 * 15000


def test_the_95th_percentile_is_that_of_five_minute_means(ports):
    octets = [7500 * n for n in range(1, 101)]
    store(ports[0], minutes(100, NOW - timedelta(minutes=100)), octets, 75)
    found = series.read(polled_port(ports[0]), NOW - timedelta(minutes=100), NOW, 1500)
    means = [1000 * (5 * n + 3) for n in range(20)]
    assert found.inward.p95 == means[18]
    assert found.larger_p95 == means[18] and found.both_p95 == means[18] + 10


def test_what_was_measured_is_said(ports):
    store(ports[0], minutes(30, NOW - timedelta(hours=1)), 7500, 0)
    found = series.read(polled_port(ports[0]), NOW - timedelta(hours=1), NOW, 100)
    assert found.measured == pytest.approx(0.5, abs=0.02)


class TestThePast:
    def test_a_port_shows_its_last_reading_before_the_time(self, ports):
        note_speeds([SpeedChange(ports[0].pk, NOW - DAY, 10**6, True, 0, 0)])
        store(ports[0], minutes(10, NOW - timedelta(minutes=30)), [7500 * n for n in range(1, 11)], 0)
        at = NOW - timedelta(minutes=24, seconds=30)
        row = next(row for row in find_ports(at)[0] if row.id == ports[0].pk)
        assert row.in_bps == 5 * 1000
        assert row.in_percent == pytest.approx(0.5)

    def test_after_twenty_minutes_nothing_is_known(self, ports):
        store(ports[0], minutes(1, NOW - timedelta(hours=1)), 7500, 0)
        row = next(row for row in find_ports(NOW - timedelta(minutes=10))[0] if row.id == ports[0].pk)
        assert (row.in_bps, row.oper) == (None, None)

    def test_the_speed_is_the_one_that_held_then(self, ports):
        note_speeds([SpeedChange(ports[0].pk, NOW - DAY, 10**6, True, 0, 0)])
        note_speeds([SpeedChange(ports[0].pk, NOW - timedelta(minutes=5), 10**6, True, 10**5, 0)])
        store(ports[0], minutes(12, NOW - timedelta(minutes=12)), 7500, 0)

        def percent(ago):
            rows = find_ports(NOW - timedelta(minutes=ago), only=[ports[0].pk])[0]
            return rows[0].in_percent

        assert (percent(8), percent(1)) == (pytest.approx(0.1), pytest.approx(1.0))

    def test_a_reading_over_a_gap_has_no_rate(self, ports):
        store(ports[0], minutes(1, NOW - timedelta(minutes=5)), 7500, 0, flags=Flag.BRIDGED)
        assert find_ports(NOW, only=[ports[0].pk])[0][0].in_bps is None

    def test_a_device_was_silent_while_its_gap_lasted(self, device, ports):
        Gap.objects.create(
            device=device,
            start=NOW - timedelta(hours=2),
            end=NOW - timedelta(hours=1),
            reason="silent",
            words="no answer",
        )
        device.added_at = NOW - DAY
        device.save()
        seen = [devices.find(NOW - timedelta(minutes=ago))[0][0] for ago in (150, 90, 30)]
        assert [row.reach for row in seen] == ["answers", "silent", "answers"]
        assert seen[1].reason == "no answer"
        assert not next(row for row in find_ports(NOW - timedelta(minutes=90))[0]).answers

    def test_the_cells_of_sites_agree_with_the_ports(self, device, ports):
        note_speeds([SpeedChange(port.pk, NOW - DAY, 10**6, True, 0, 0) for port in ports])
        for number, port in enumerate(ports):
            store(port, minutes(5, NOW - timedelta(minutes=5)), 7500 * (number + 1), 0)
        site = cells.of_sites(NOW)[0]
        rows = {row.id: row for row in find_ports(NOW)[0]}
        assert site.ids == [port.pk for port in ports]
        assert site.loads == [pytest.approx(rows[pk].load, abs=0.05) for pk in site.ids]
        assert (site.used, site.up) == (3, 3)


def test_the_small_line_beside_an_alarm_is_its_ports_load(ports):
    note_speeds([SpeedChange(ports[0].pk, NOW - DAY, 10**6, True, 0, 0)])
    store(ports[0], minutes(120, NOW - timedelta(hours=2)), 7500, 6_750_000)
    apply([transition(ports[0].device, Severity.MAJOR, "full", at=NOW, interface=ports[0])])
    standing, _ = alarms.active(NOW)
    line = sparks.of(standing, NOW)[standing[0].id]
    assert len(line) == sparks.POINTS
    assert {value for value in line if value is not None} == {90.0}
    assert sparks.of([], NOW) == {}
