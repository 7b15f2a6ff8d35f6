"""Readings on real PostgreSQL: bulk, roll-ups, series, partitions."""

from datetime import UTC, date, datetime, timedelta
from itertools import pairwise

import numpy as np
import pytest
from django.db import DatabaseError, IntegrityError, connection, transaction
from django.utils import timezone
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lumtar.core import percentiles
from lumtar.core.counters import Flag
from lumtar.domain.operation.editing import Stale
from lumtar.domain.readings import bulk, disk, partitions, retention, rollups, series, sums
from lumtar.domain.readings.models import Day, Due, FiveMinutes, Gap, Hour, Reading, RolledUp
from lumtar.domain.readings.partitions import Partition
from lumtar.domain.reports import ports
from tests.domain.conftest import NOW, polled_port
from tests.domain.stored import minutes, store

pytestmark = pytest.mark.django_db


def test_bulk_rows_arrive_as_they_were_sent(ports):
    at = minutes(5)
    store(ports[0], at, [1, 2, 3, 4, 2**62], 7, flags=Flag.WRAPPED, errors=3)
    rows = list(Reading.objects.order_by("at"))
    assert [row.at for row in rows] == at
    assert [row.in_octets for row in rows] == [1, 2, 3, 4, 2**62]
    assert {(row.out_octets, row.in_errors, row.flags, row.elapsed_ms, row.oper) for row in rows} == {
        (7, 3, 8, 60_000, 1)
    }


def test_sums_beyond_64_bits_end_nothing(ports):
    """Four absurd readings within five minutes: the sum is as large as can be, and others have theirs."""
    at = minutes(5)
    store(ports[0], at, 2**62, 2**62)
    store(ports[1], at, 10, 20)
    rollups.roll_all(rollups.hour_of(at[0]) - timedelta(hours=1), rollups.hour_of(at[0]) + timedelta(hours=2))
    hours = {hour.interface_id: hour for hour in Hour.objects.filter(at=rollups.hour_of(at[0] - timedelta(seconds=1)))}
    assert hours[ports[0].pk].in_octets == 2**63 - 1
    assert hours[ports[1].pk].out_octets == 100


def test_a_block_of_every_kind_of_column(ports):
    with connection.cursor() as cursor:
        cursor.execute(
            "CREATE TEMP TABLE kinds (a smallint, b integer, c bigint, d real, e double precision, f boolean, g bigint[], h timestamptz)"
        )
    columns = [
        ("a", "i2", np.array([-5, 5])), ("b", "i4", np.array([-6, 6])), ("c", "i8", np.array([-(2**63), 2**63 - 1])),
        ("d", "f4", np.array([0.5, np.nan])), ("e", "f8", np.array([1e300, -0.25])), ("f", "?", np.array([True, False])),
        ("g", "i8", np.array([[1, -2, 3], [4, 5, -6]])), ("h", "at", np.array([0.0, 1_795_435_200.25])),
    ]  # fmt: skip
    bulk.copy("kinds", columns)
    with connection.cursor() as cursor:
        cursor.execute("SELECT a, b, c, d, e, f, g, h FROM kinds ORDER BY a")
        first, second = cursor.fetchall()
    assert first[:3] == (-5, -6, -(2**63)) and first[6] == [1, -2, 3] and first[5] is True
    assert first[7] == datetime(1970, 1, 1, tzinfo=UTC)
    assert (
        second[2] == 2**63 - 1
        and np.isnan(second[3])
        and second[7] == datetime(2026, 11, 23, 12, 0, 0, 250000, tzinfo=UTC)
    )


def test_what_the_database_refuses_is_an_error_that_callers_know(ports):
    with pytest.raises(DatabaseError, match="no partition"), transaction.atomic():
        store(ports[0], [NOW - timedelta(days=900)], 1, 1)


def test_an_hour_adds_up_exactly_and_keeps_its_peak(ports):
    octets = np.arange(60) * 1_000_003 + 2**53
    store(ports[0], minutes(60), octets, octets * 2, errors=1)
    assert rollups.roll_all(NOW, NOW + rollups.HOUR) == 12 + 1
    hour = Hour.objects.get()
    assert hour.at == NOW
    assert hour.in_octets == int(octets.sum())
    assert hour.out_octets == 2 * hour.in_octets
    assert (hour.readings, hour.up_readings, hour.elapsed_ms, hour.in_errors) == (60, 60, 3_600_000, 60)
    assert hour.in_max_bps == pytest.approx(octets[-1] * 8 / 60)


def test_rolling_up_again_changes_nothing(ports):
    store(ports[0], minutes(60), 1000, 2000)
    rollups.roll_all(NOW, NOW + rollups.HOUR)
    before = list(Hour.objects.values())
    rollups.roll_all(NOW, NOW + rollups.HOUR)
    assert list(Hour.objects.values()) == before


def test_what_spans_a_gap_is_summed_apart(ports):
    store(ports[0], minutes(10), 600, 600)
    store(ports[0], [NOW + timedelta(minutes=50)], 10**9, 5, elapsed_ms=2_400_000, flags=Flag.BRIDGED)
    rollups.roll_all(NOW, NOW + rollups.HOUR)
    hour = Hour.objects.get()
    assert (hour.in_octets, hour.bridged_in_octets, hour.elapsed_ms) == (6000, 10**9, 600_000)
    assert hour.in_max_bps == pytest.approx(80)


def test_a_reading_belongs_to_the_hour_it_ends_in(ports):
    store(ports[0], [NOW, NOW + timedelta(microseconds=1)], 1, 1)
    rollups.roll_all(NOW - rollups.HOUR, NOW + rollups.HOUR)
    assert {hour.at for hour in Hour.objects.all()} == {NOW - rollups.HOUR, NOW}


def test_what_has_closed_is_found_and_summed_up(ports):
    store(ports[0], minutes(150), 1000, 0)
    rollups.roll_up_due(NOW + timedelta(hours=2, minutes=2))
    assert FiveMinutes.objects.count() == 24 and Hour.objects.count() == 2 and not Due.objects.exists()
    assert RolledUp.objects.get().until == NOW + 2 * rollups.HOUR
    assert rollups.roll_up_due(NOW + timedelta(hours=2, minutes=2)) == 0
    rollups.roll_up_due(NOW + timedelta(hours=2, minutes=7))
    assert FiveMinutes.objects.count() == 25 and Hour.objects.count() == 2


def test_a_late_reading_makes_its_time_due_again(ports):
    rollups.roll_up_due(NOW)
    store(ports[0], minutes(70)[1:], 1000, 0)
    rollups.roll_up_due(NOW + timedelta(minutes=75))
    assert Hour.objects.get().in_octets == 59 * 1000
    store(ports[0], minutes(1), 1000, 0)
    assert [due.at for due in Due.objects.all()] == [NOW]
    rollups.roll_up_due(NOW + timedelta(minutes=75))
    assert Hour.objects.get().in_octets == 60 * 1000
    assert FiveMinutes.objects.order_by("at")[0].readings == 5


@settings(max_examples=15, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_sums_are_those_of_the_readings_in_any_order_of_arrival(ports, data):
    """Late, in pieces and across the end of a day: every level holds exactly what was counted."""
    for model in (Reading, FiveMinutes, Hour, Day, Due, RolledUp):
        model.objects.all().delete()
    midnight = NOW.replace(hour=0)
    start = midnight - timedelta(hours=2)
    count = data.draw(st.integers(20, 200))
    octets = data.draw(st.lists(st.integers(0, 2**45), min_size=count, max_size=count))
    spans = data.draw(st.lists(st.booleans(), min_size=count, max_size=count))
    order = data.draw(st.permutations(range(count)))
    at = minutes(count, start)
    rollups.close(start)
    parts = np.array_split(np.array(order), data.draw(st.integers(1, 5)))
    for number, part in enumerate(parts):
        flags = [Flag.BRIDGED if spans[place] else 0 for place in part]
        store(ports[0], [at[place] for place in part], [octets[place] for place in part], 7, flags=flags)
        rollups.roll_up_due(start + timedelta(hours=1 + 30 * number / len(parts)))
    rollups.roll_up_due(midnight + timedelta(days=1, minutes=1))
    rated = sum(value for value, spanning in zip(octets, spans, strict=True) if not spanning)
    for model in (FiveMinutes, Hour, Day):
        rows = model.objects.all()
        assert sum(row.in_octets for row in rows) == rated
        assert sum(row.bridged_in_octets for row in rows) == sum(octets) - rated
        assert sum(row.elapsed_ms + row.bridged_ms for row in rows) == 60_000 * count
        assert sum(row.readings for row in rows) == sum(row.up_readings for row in rows) == count
        assert sum(row.out_octets + row.bridged_out_octets for row in rows) == 7 * count
        highest = [row.in_max_bps for row in rows if row.in_max_bps is not None]
        if rated:
            rates = [value * 8 / 60 for value, spanning in zip(octets, spans, strict=True) if not spanning]
            assert max(highest) == pytest.approx(max(rates))


def test_a_day_keeps_its_five_minute_means(ports):
    midnight = NOW.replace(hour=0)
    octets = np.random.default_rng(7).integers(10**5, 10**9, 1440)
    octets[100:130] = 0
    store(ports[0], minutes(1440, midnight), octets, octets // 9)
    rollups.roll_all(midnight, midnight + rollups.DAY)
    day = Day.objects.get()
    exact = octets.reshape(288, 5).sum(axis=1) * 8 / 300
    kept = percentiles.decode(np.frombuffer(day.in_means, "<u2"))
    assert np.all(np.abs(kept - exact) <= exact * percentiles.BOUND * 1.0001)
    assert day.in_p95_bps == pytest.approx(np.percentile(exact, 95, method="inverted_cdf"))


def test_percentiles_agree_wherever_they_are_read_from(ports, monkeypatch):
    """From readings, from sums, and from what days keep: the same, and within the bound."""
    monkeypatch.setattr(timezone, "now", lambda: NOW + rollups.DAY)
    midnight = NOW.replace(hour=0)
    octets = np.random.default_rng(3).integers(0, 10**9, 1440)
    store(ports[0], minutes(1440, midnight), octets, octets // 2)
    end = midnight + rollups.DAY
    exact = percentiles.percentile(octets.reshape(288, 5).sum(axis=1) * 8 / 300)
    assert series.read(polled_port(ports[0]), midnight, end, 1500).inward.p95 == pytest.approx(exact)
    rollups.roll_up_due(end + timedelta(minutes=1))
    assert series.read(polled_port(ports[0]), midnight, end, 200).inward.p95 == pytest.approx(exact)
    assert series.read(polled_port(ports[0]), midnight - timedelta(days=60), end, 100).inward.p95 == pytest.approx(
        exact, rel=percentiles.BOUND * 1.01
    )
    # Of half a day, cut out of what the day keeps.
    half = percentiles.percentile((octets.reshape(288, 5).sum(axis=1) * 8 / 300)[:144])
    _, inward, _ = sums.five_minute_means([ports[0].pk], midnight - timedelta(days=9), midnight + timedelta(hours=12))
    assert percentiles.percentile(inward[0]) == pytest.approx(half)


def test_summing_up_anew_mends_what_is_wrong(ports):
    store(ports[0], minutes(200, NOW.replace(hour=0)), 1000, 0)
    rollups.roll_all(NOW.replace(hour=0), NOW)
    before = list(Hour.objects.order_by("at").values())
    Hour.objects.update(in_octets=1)
    FiveMinutes.objects.filter(at__lt=NOW).delete()
    FiveMinutes.objects.create(**dict.fromkeys(rollups.SUMMED, 5), flags=0, interface=ports[1], at=NOW.replace(hour=1))
    rollups.rebuild(NOW.replace(hour=0), NOW)
    assert list(Hour.objects.order_by("at").values()) == before[:3]
    assert not FiveMinutes.objects.filter(interface=ports[1]).exists()


def test_without_readings_nothing_can_be_summed_up_anew(ports):
    with pytest.raises(ValueError, match="no readings"):
        rollups.rebuild(NOW, NOW + rollups.HOUR)


class TestSeries:
    @pytest.fixture(autouse=True)
    def at_that_time(self, monkeypatch):
        monkeypatch.setattr(timezone, "now", lambda: NOW + timedelta(hours=3))

    def test_rates_are_octets_over_time(self, ports):
        store(ports[0], minutes(60), 7_500_000, 75_000)
        found = series.read(polled_port(ports[0]), NOW, NOW + rollups.HOUR, 1500)
        assert found.step_s == 60 and found.source == "readings"
        assert found.in_bps == [1_000_000.0] * 60
        assert found.inward.volume == 60 * 7_500_000
        assert found.inward.mean == pytest.approx(1e6) and found.inward.p95 == pytest.approx(1e6)
        assert found.measured == pytest.approx(1)

    def test_a_gap_is_nothing_and_not_zero(self, ports):
        store(ports[0], minutes(10), 750, 750)
        store(ports[0], minutes(10, NOW + timedelta(minutes=30)), 750, 750)
        found = series.read(polled_port(ports[0]), NOW, NOW + rollups.HOUR, 1500)
        assert found.in_bps[10:30] == [None] * 20
        assert found.in_bps[9] == found.in_bps[30] == 100.0
        assert found.measured == pytest.approx(1 / 3)

    def test_across_a_gap_there_is_volume_and_no_line(self, ports):
        store(ports[0], minutes(10), 750, 750)
        store(ports[0], [NOW + timedelta(minutes=40)], 10**9, 1, elapsed_ms=1_800_000, flags=Flag.BRIDGED)
        found = series.read(polled_port(ports[0]), NOW, NOW + rollups.HOUR, 1500)
        assert found.in_bps[10:] == [None] * 50
        assert found.inward.volume == 10**9 + 7500

    def test_hours_and_readings_tell_the_same_volume(self, ports):
        octets = np.random.default_rng(1).integers(0, 10**9, 180)
        store(ports[0], minutes(180), octets, octets // 3)
        fine = series.read(polled_port(ports[0]), NOW, NOW + timedelta(hours=3), 1500)
        rollups.roll_up_due(NOW + timedelta(hours=2))
        coarse = series.read(polled_port(ports[0]), NOW - timedelta(days=80), NOW + timedelta(hours=3), 1500)
        assert coarse.source == "hours"
        assert coarse.inward.volume == fine.inward.volume == int(octets.sum())
        assert coarse.inward.max == pytest.approx(fine.inward.max)

    def test_rare_readings_make_long_steps(self, ports):
        store(ports[0], [NOW + timedelta(minutes=10 * n) for n in range(1, 7)], 75_000, 75_000, elapsed_ms=600_000)
        found = series.read(polled_port(ports[0]), NOW, NOW + rollups.HOUR, 1500)
        assert found.step_s == 600
        assert found.in_bps == [1000.0] * 6

    def test_rare_readings_among_frequent_ones_fill_their_time(self, ports):
        store(ports[0], minutes(50), 7500, 7500)
        store(ports[0], [NOW + timedelta(minutes=60)], 75_000, 0, elapsed_ms=600_000)
        found = series.read(polled_port(ports[0]), NOW, NOW + rollups.HOUR, 1500)
        assert found.in_bps == [1000.0] * 60

    def test_a_restart_is_a_mark(self, ports):
        store(ports[0], minutes(3), [100, 0, 100], 0, flags=[0, Flag.RESTARTED, 0])
        found = series.read(polled_port(ports[0]), NOW, NOW + rollups.HOUR, 1500)
        assert found.restarts == [int((NOW + timedelta(minutes=2)).timestamp())]

    def test_nothing_at_all(self, ports):
        found = series.read(polled_port(ports[0]), NOW, NOW + rollups.HOUR)
        assert set(found.in_bps) == {None}
        assert found.inward.mean is None and found.inward.volume == 0 and found.measured == 0


def test_gaps_of_a_device_and_of_everything(device, ports):
    def gap(start, end, of):
        Gap.objects.create(
            device=of,
            start=NOW + timedelta(minutes=start),
            end=NOW + timedelta(minutes=end) if end else None,
            reason="silent",
            words=str(start),
        )

    gap(-60, -30, device)
    gap(-10, 10, device)
    gap(20, 30, None)
    gap(40, None, device)
    gap(90, None, device)
    found = series.gaps(device.pk, NOW, NOW + rollups.HOUR)
    assert [each.words for each in found] == ["-10", "20", "40"]


def test_the_database_adds_up_the_sums_of_a_step(ports):
    """Steps of half an hour from five-minute sums are what these add up to, for several ports and across pieces."""
    start, chance = NOW - timedelta(hours=6), np.random.default_rng(7)
    for port in ports:
        at = minutes(360, start)
        store(
            port,
            at,
            chance.integers(0, 2**40, 360),
            5,
            flags=chance.choice([0, int(Flag.WRAPPED), int(Flag.BRIDGED)], 360),
        )
    rollups.roll_all(start, NOW)
    RolledUp.objects.update_or_create(pk=1, defaults={"until": NOW})
    ids = [port.pk for port in ports]
    since = start + timedelta(minutes=10)
    fine, coarse = (sums.read(ids, since, NOW, step).rows for step in (300, 1800))
    assert len(coarse) <= len(fine) / 5
    step_of = np.ceil((fine["at"] - start.timestamp()) / 1800)
    for port in ids:
        for number in range(1, 13):
            mine = fine[(fine["interface"] == port) & (step_of == number)]
            # The edge of the range comes from readings or five minutes, as rows of their own.
            told = coarse[
                (coarse["interface"] == port) & (np.ceil((coarse["at"] - start.timestamp()) / 1800) == number)
            ]
            for name in rollups.SUMMED:
                assert told[name].sum() == mine[name].sum(), (port, number, name)
            assert np.nanmin(told["in_min_bps"]) == np.nanmin(mine["in_min_bps"])
            assert np.nanmax(told["in_max_bps"]) == np.nanmax(mine["in_max_bps"])
            assert np.bitwise_or.reduce(told["flags"]) == np.bitwise_or.reduce(mine["flags"])


class TestPartitions:
    def test_a_day_lies_in_one_or_in_pieces(self):
        names = [each.name for each in partitions.wanted(date(2026, 12, 31), date(2027, 1, 1))]
        assert "readings_reading_20261231" in names and "readings_hour_20270101" in names
        assert [name for name in names if name.startswith("readings_day")] == [
            "readings_day_20261201",
            "readings_day_20270101",
        ]
        pieces = [
            each
            for each in partitions.wanted(NOW.date(), NOW.date(), in_pieces=True)
            if each.table == "readings_reading"
        ]
        assert [each.name[-3:] for each in pieces] == [f"_{hour:02}" for hour in range(24)]
        assert all(before.end == after.start for before, after in pairwise(pieces))

    def test_old_ones_go_and_the_others_stay(self, device):
        now = datetime(2026, 11, 23, 1, 0, tzinfo=UTC)
        partitions.ensure(date(2026, 11, 1), date(2026, 11, 22))
        wanted = dict(zip(retention.FIELDS, (5, 5, 10, 10), strict=True))
        retention.change(wanted, 1, "anna")
        dropped = partitions.drop_old(now)
        assert "readings_reading_20261117" in dropped and "readings_reading_20261118" not in dropped
        assert "readings_hour_20261112" in dropped and "readings_hour_20261113" not in dropped
        assert not any(name.startswith("readings_day") for name in dropped)
        assert partitions.existing()["readings_reading"][0].start == datetime(2026, 11, 18, tzinfo=UTC)

    def test_making_them_twice_is_harmless(self, device):
        before = partitions.existing()
        partitions.ensure_around(NOW)
        once = partitions.existing()
        partitions.ensure_around(NOW)
        assert once == partitions.existing()
        assert all(set(before[table]) <= set(found) for table, found in once.items())

    def test_what_was_made_in_another_length_is_left_as_it_is(self, db):
        then = datetime(2027, 3, 3, 10, tzinfo=UTC)
        partitions.ensure_around(then)
        partitions.ensure(then.date(), then.date())
        mine = [each for each in partitions.existing()["readings_reading"] if each.start.date() == then.date()]
        assert len(mine) == 24
        assert not partitions.missing(partitions.wanted(then.date(), then.date(), in_pieces=True))

    def test_a_rewritten_piece_holds_the_same_in_another_order(self, db, ports_of_today):
        today = datetime(2027, 3, 3, 10, tzinfo=UTC)
        at = [today + timedelta(minutes=n) for n in range(30)]
        for moment in at:
            for port in ports_of_today:
                Reading.objects.create(interface=port, at=moment, **NOTHING)
        piece = next(each for each in partitions.existing()["readings_reading"] if each.start == today)
        assert piece in partitions.closed(today + timedelta(hours=1, minutes=15)) and piece not in partitions.closed(
            today
        )
        before = set(Reading.objects.values_list("interface_id", "at"))
        assert partitions.rewrite(piece)
        assert set(Reading.objects.values_list("interface_id", "at")) == before
        with connection.cursor() as cursor:
            cursor.execute(f"SELECT interface_id, at FROM {piece.name} ORDER BY ctid")
            assert cursor.fetchall() == sorted(before)
        assert piece.name not in [each.name for each in partitions.closed(today + timedelta(hours=1, minutes=15))]
        # It goes on taking what comes late, and twice is twice too much.
        Reading.objects.create(interface=ports_of_today[0], at=today + timedelta(hours=1), **NOTHING)
        with pytest.raises(IntegrityError), transaction.atomic():
            Reading.objects.create(interface=ports_of_today[0], at=at[0], **NOTHING)

    def test_three_hours_become_one_piece_when_the_last_has_closed(self, db, ports_of_today):
        nine = datetime(2027, 3, 3, 9, tzinfo=UTC)
        for port in ports_of_today:
            for number in range(180):
                Reading.objects.create(interface=port, at=nine + timedelta(minutes=number), **NOTHING)
        before = sorted(Reading.objects.values_list("interface_id", "at"))

        def bring_in_order(now: datetime) -> list[tuple[int, int]]:
            for each in partitions.closed(now):
                assert partitions.rewrite(each)
            there = partitions.existing()["readings_reading"]
            return [(each.start.hour, each.end.hour) for each in there if each.is_in_order and each.start >= nine]

        assert bring_in_order(nine.replace(hour=11, minute=14)) == [(9, 10)]
        assert bring_in_order(nine.replace(hour=11, minute=15)) == [(9, 10), (10, 11)]
        assert bring_in_order(nine.replace(hour=12, minute=15)) == [(9, 12)]
        assert partitions.closed(nine.replace(hour=12, minute=15)) == []
        assert sorted(Reading.objects.values_list("interface_id", "at")) == before

    def test_what_was_written_twice_is_there_once_when_it_is_in_order(self, db, ports_of_today):
        at = datetime(2027, 3, 3, 10, 30, tzinfo=UTC)
        for _ in range(2):
            Reading.objects.create(interface=ports_of_today[0], at=at, **NOTHING)
        piece = next(each for each in partitions.existing()["readings_reading"] if each.start <= at < each.end)
        assert partitions.rewrite(piece)
        assert Reading.objects.filter(at=at).count() == 1

    def test_a_past_state_is_the_same_while_its_hour_is_written_to_and_later(self, db, ports_of_today):
        ten = datetime(2027, 3, 3, 10, tzinfo=UTC)
        for place, port in enumerate(ports_of_today):
            # The last port has not been read for five minutes: longer than anything is polled apart, but not for too long.
            for number in range(16 if place == 2 else 30):
                told = NOTHING | {"in_octets": 1000 * number + place, "oper": 1 + place}
                Reading.objects.create(interface=port, at=ten + timedelta(minutes=number), **told)
        at = ten + timedelta(minutes=20, seconds=30)

        def seen(**only):
            found = {row.id: (row.at, row.in_bps, row.oper) for row in ports.find(at, limit=99, **only)[0]}
            return {port.pk: found[port.pk] for port in ports_of_today}

        assert partitions.is_written_to(at)
        while_written = seen()
        assert seen(only=[port.pk for port in ports_of_today]) == while_written
        assert partitions.rewrite(Partition("readings_reading", ten, ten + timedelta(hours=1)))
        assert not partitions.is_written_to(at)
        assert seen() == while_written
        assert list(while_written.values()) == [
            (ten + timedelta(minutes=20), 20_000 * 8 / 60, 1),
            (ten + timedelta(minutes=20), 20_001 * 8 / 60, 2),
            (ten + timedelta(minutes=15), 15_002 * 8 / 60, 3),
        ]

    def test_days_of_hours_are_joined_to_weeks(self, ports):
        monday = datetime(2026, 10, 5, tzinfo=UTC)
        partitions.ensure(monday.date(), monday.date() + timedelta(days=9))
        store(ports[0], [monday + timedelta(minutes=n) for n in range(1, 2 * 1440, 10)], 5, 5)
        rollups.roll_all(monday, monday + timedelta(days=2))
        before = list(Hour.objects.order_by("at").values())
        assert len(before) == 48
        for each in partitions.closed(NOW):
            assert partitions.rewrite(each)
        assert list(Hour.objects.order_by("at").values()) == before
        hours = [each for each in partitions.existing()["readings_hour"] if each.start < monday + timedelta(days=9)]
        assert [(each.start, each.end - each.start) for each in hours][:1] == [(monday, timedelta(days=7))]
        assert partitions.closed(NOW) == []

    def test_a_table_in_use_is_left_alone(self, ports, monkeypatch):
        store(ports[0], minutes(5), 5, 5)
        monkeypatch.setattr(partitions, "_keep_writers_out", lambda cursor: (_ for _ in ()).throw(partitions._Busy))
        there = partitions.existing()
        mine = next(each for each in there["readings_reading"] if each.start.date() == NOW.date())
        assert not partitions.rewrite(mine)
        assert partitions.existing() == there and Reading.objects.count() == 5


NOTHING = {
    "in_octets": 1, "out_octets": 1, "in_packets": 0, "out_packets": 0, "in_errors": 0, "out_errors": 0,
    "in_discards": 0, "out_discards": 0, "elapsed_ms": 60_000, "flags": 0, "oper": 1,
}  # fmt: skip


@pytest.fixture
def ports_of_today(ports):
    """Ports, and partitions around a day that is still far away."""
    partitions.ensure_around(datetime(2027, 3, 3, 10, tzinfo=UTC))
    return ports


class TestRetention:
    def test_a_finer_level_is_not_kept_longer_than_a_coarser_one(self):
        with pytest.raises(ValueError, match="coarser level is kept at least as long"):
            retention.change(dict(zip(retention.FIELDS, (30, 20, 40, 50), strict=True)), 1, "anna")
        with pytest.raises(ValueError, match="2 to 7,320 days"):
            retention.change(dict(zip(retention.FIELDS, (0, 20, 40, 50), strict=True)), 1, "anna")
        assert retention.current().readings_days == 14

    def test_the_second_of_two_is_told(self):
        wanted = dict(zip(retention.FIELDS, (10, 20, 40, 50), strict=True))
        retention.change(wanted, 1, "anna")
        with pytest.raises(Stale, match="anna changed this"):
            retention.change(wanted, 1, "bert")

    def test_the_disk_it_will_take(self, device, ports):
        found = {use.level: use for use in disk.use()}
        assert found["readings"].rows_a_day == 1440 * len(ports)
        assert found["days"].rows_a_day == len(ports)
        assert found["readings"].bytes_when_full == int(found["readings"].bytes_a_row * 1440 * len(ports) * 14)


@settings(max_examples=30, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_one_reading_alone_is_what_the_database_sums_up(ports, data):
    """Charts take readings apart in numpy, roll-ups in SQL: the same columns come of both."""
    Reading.objects.all().delete()
    number = data.draw(st.integers(1, 8))

    def drawn(values):
        return data.draw(st.lists(values, min_size=number, max_size=number))

    flags = st.sampled_from([0, Flag.BRIDGED, Flag.WRAPPED, Flag.RESTARTED, Flag.FIRST, Flag.BRIDGED | Flag.WRAPPED])
    at = minutes(number)
    store(
        ports[0], at, drawn(st.integers(0, 2**62)), drawn(st.integers(0, 2**40)), drawn(st.integers(0, 10**7)),
        [int(each) for each in drawn(flags)], drawn(st.integers(0, 99)),
    )  # fmt: skip
    rows = sums.read([ports[0].pk], NOW, at[-1], 1).rows
    with connection.cursor() as cursor:
        wanted = ", ".join(rollups.READING[name] for name in rollups.COLUMNS)
        cursor.execute(f"SELECT {wanted} FROM readings_reading ORDER BY at")
        told = cursor.fetchall()
    assert len(rows) == number
    for row, values in zip(rows, told, strict=True):
        for name, value in zip(rollups.COLUMNS, values, strict=True):
            assert row[name] == value if value is not None else np.isnan(row[name]), name


def test_volumes_are_exact_beyond_what_double_precision_holds(ports):
    """Three hours at 400 Gb/s a line, each octet counted: the steps of a chart lose none of them."""
    octets = 2**53 // 60 + np.arange(180)
    at = minutes(180)
    store(ports[0], at, octets, octets + 1)
    rollups.roll_all(NOW, NOW + timedelta(hours=3))
    RolledUp.objects.update_or_create(pk=1, defaults={"until": NOW + timedelta(hours=3)})
    wanted = sum(octets.tolist())
    assert float(wanted) != wanted, "or this would prove nothing"
    for step in (60, 300, 3600, 10800):
        rows = sums.read([ports[0].pk], NOW, NOW + timedelta(hours=3), step).rows
        assert (sum(rows["in_octets"].tolist()), sum(rows["out_octets"].tolist())) == (wanted, wanted + 180), step


@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(first=st.integers(0, 1400), length=st.integers(1, 1440))
def test_means_read_from_days_are_those_of_the_readings(ports, first, length):
    """Whichever part of two days is asked for, what days keep stands for the five minutes that the readings make."""
    midnight = NOW.replace(hour=0) - timedelta(days=2)
    if not Reading.objects.exists():
        chance = np.random.default_rng(11)
        store(ports[0], minutes(2880, midnight), chance.integers(0, 10**10, 2880), chance.integers(0, 10**6, 2880))
        rollups.roll_all(midnight, midnight + timedelta(days=2))
        RolledUp.objects.update_or_create(pk=1, defaults={"until": midnight + timedelta(days=2)})
    start = midnight + timedelta(minutes=5 * (first // 5))
    end = start + timedelta(minutes=5 * (1 + length // 5))
    begins, inward, outward = sums.five_minute_means([ports[0].pk], start, end)
    days = sums.means_of_days([ports[0].pk], midnight, midnight + timedelta(days=2))
    place = int((begins - midnight.timestamp()) // 300)
    for found, way in ((inward, "in"), (outward, "out")):
        kept = percentiles.decode(np.concatenate(days[np.argsort(days["at"])][way]))[place : place + found.shape[1]]
        here = found[0][: len(kept)]
        assert not np.isnan(here).any() and np.isnan(found[0][len(kept) :]).all()
        assert here == pytest.approx(kept, rel=percentiles.BOUND * 1.01)


def test_rows_of_octets_come_in_bulk_too():
    sql = "SELECT n::bigint, n / 2.0::float8, int2send((n * 3)::smallint) || int2send(7::smallint) FROM generate_series(1, %(n)s) n"
    kinds = [("n", "i8"), ("half", "f8"), ("pair", "(2,)>i2")]
    rows = bulk.fetch(sql, {"n": 500}, kinds)
    rows = rows[np.argsort(rows["n"])]
    assert rows["n"].tolist() == list(range(1, 501))
    assert rows["half"].tolist() == [n / 2 for n in range(1, 501)]
    assert rows["pair"].tolist() == [[3 * n, 7] for n in range(1, 501)]
    assert len(bulk.fetch(sql, {"n": 0}, kinds)) == 0
