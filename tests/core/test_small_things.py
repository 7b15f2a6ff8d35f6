"""Speeds, schedules, text, units, the headline, the calculation, the density of alarms."""

import csv

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core import calculation, schedule, text
from lumtar.core.alarms.density import Stand, density, stands
from lumtar.core.alarms.severity import Severity
from lumtar.core.counters import Flag
from lumtar.core.headline import Cause, Standing, headline
from lumtar.core.measures.rates import bits_per_second, utilisation
from lumtar.core.speeds import SpeedSource, chosen, port_speed
from lumtar.core.text import clean, mac_address
from lumtar.core.units import counted, duration, rate


class TestSpeed:
    @pytest.mark.parametrize(
        ("high", "low", "bps", "from_high"),
        [
            (10_000, 4_294_967_295, 10_000_000_000, True),
            (1000, 1_000_000_000, 1_000_000_000, True),
            (2, 1_544_000, 1_544_000, True),
            (0, 1_544_000, 1_544_000, False),
            (0, 0, 0, False),
            (0, 4_294_967_295, 0, False),
            (100, 0, 100_000_000, True),
        ],
    )
    def test_which_object_decides(self, high, low, bps, from_high):
        """RFC 2863: ifSpeed saturates at 4,294,967,295; ifHighSpeed is rounded to millions."""
        speed, source = port_speed(np.array([high]), np.array([low]))
        assert (int(speed[0]), bool(source[0])) == (bps, from_high)

    def test_somebody_sold_less(self):
        assert chosen(10**9, True, 300_000_000) == (300_000_000, SpeedSource.OVERRIDE)
        assert chosen(10**9, True, None) == (10**9, SpeedSource.HIGH_SPEED)
        assert chosen(10**9, False, None) == (10**9, SpeedSource.SPEED)
        assert chosen(0, False, None) == (0, SpeedSource.UNKNOWN)


def test_no_share_of_an_unknown_speed():
    assert np.isnan(utilisation(np.array([1e6]), np.array([0.0])))[0]
    assert np.isnan(bits_per_second(np.array([100]), np.array([0], np.int32)))[0]


class TestSchedule:
    @given(device=st.integers(1, 10**6), interval=st.floats(10, 86400), now=st.floats(1e9, 2e9))
    def test_the_next_poll_lies_ahead_within_an_interval(self, device, interval, now):
        due = schedule.next_poll(device, interval, now)
        assert now < due <= now + interval * 1.000001

    @given(device=st.integers(1, 10**6), now=st.floats(1e9, 2e9))
    def test_polls_keep_their_phase(self, device, now):
        first = schedule.next_poll(device, 60, now)
        assert schedule.next_poll(device, 60, first + 1) == pytest.approx(first + 60, abs=1e-3)

    def test_a_thousand_devices_are_spread_evenly(self):
        phases = np.array([schedule.phase(device, 60) for device in range(1, 1001)])
        counts, _ = np.histogram(phases, 60, (0, 60))
        assert counts.min() >= 14
        assert counts.max() <= 20


class TestText:
    @pytest.mark.parametrize(
        ("raw", "text"),
        [
            (b"Lesesaal", "Lesesaal"),
            ("Büro Süd".encode(), "Büro Süd"),
            ("Büro Süd".encode("latin-1"), "Büro Süd"),
            (b"a\x00b\x07c\x1b[31m", "abc[31m"),
            (b"  two\r\nlines\t", "two lines"),
            ("x\u202egnp.exe".encode(), "xgnp.exe"),
            (b"", ""),
        ],
    )
    def test_names_as_devices_give_them(self, raw, text):
        assert clean(raw) == text

    @given(st.binary(max_size=400))
    def test_anything_becomes_something_printable(self, raw):
        text = clean(raw)
        assert len(text) <= 255
        assert "\x00" not in text and text == " ".join(text.split())

    def test_only_six_octets_are_a_mac(self):
        assert mac_address(bytes(range(6))) == "00:01:02:03:04:05"
        assert mac_address(b"") == ""


class TestWords:
    def test_units(self):
        assert rate(281_660_000) == "281.7 Mb/s"
        assert rate(0) == "0 b/s"
        assert duration(720) == "12 minutes"
        assert duration(86400) == "1 day"
        assert counted(1, "device") == "One device"
        assert counted(14, "thing") == "14 things"

    standing = Standing(devices=61, answering=60, ports=829, ports_up=749)

    def test_the_headline_names_the_worst(self):
        causes = [Cause("pel-wan-1 Transport A", "94 % full outbound", 720), Cause("x", "y", 5)]
        told = headline(causes, self.standing, past=False)
        assert told.strong + told.rest == "pel-wan-1 Transport A 94 % full outbound, for 12 minutes."
        assert told.second == "One more alarm is open. 60 of 61 devices answer; 749 of 829 ports in use are up."

    def test_the_headline_is_right_when_all_is_well(self):
        assert headline([], Standing(5, 5, 9, 9), past=False).strong == "All is well."
        assert headline([], Standing(5, 5, 9, 9), past=True).strong == "All was well."

    def test_the_headline_does_not_hide_a_silent_device_that_is_no_alarm_yet(self):
        told = headline([], self.standing, past=False)
        assert told.strong + told.rest == "One device has not been heard yet; nothing else is wrong."

    def test_the_headline_of_an_empty_installation_says_what_to_do(self):
        assert "Add a device" in headline([], Standing(0, 0, 0, 0), past=False).second


class TestCalculation:
    def test_a_rate_can_be_checked_with_a_pencil(self):
        how = calculation.of_rate("out", 7, 2_112_847_360, 60_010, 0, 300_000_000, SpeedSource.OVERRIDE)
        assert how.figure == "281.7 Mb/s"
        assert how.lines == [
            "2,112,847,360 octets counted in 60.01 s × 8",
            "64-bit counter ifHCOutOctets.7, no wrap, no restart",
            "= 93.9 % of 300 Mb/s, the speed sold, set here",
        ]

    def test_a_narrow_counter_that_wrapped_says_so(self):
        how = calculation.of_rate("in", 2, 100, 1000, Flag.NARROW | Flag.WRAPPED, 0, SpeedSource.UNKNOWN)
        assert how.lines[1] == "32-bit counter ifInOctets.2"
        assert "unwrapped" in how.lines[2]
        assert how.lines[-1] == "the device does not say its speed"

    @pytest.mark.parametrize("flag", [Flag.FIRST, Flag.RESTARTED, Flag.HELD, Flag.DISCONTINUITY, Flag.IMPLAUSIBLE])
    def test_no_rate_has_a_reason(self, flag):
        how = calculation.of_rate("in", 2, 0, 0, flag, 1, SpeedSource.SPEED)
        assert how.figure == "no rate"
        assert len(how.lines) == 1


class TestDensity:
    def test_stands_come_from_changes(self):
        changes = [(1, 10.0, 4), (1, 20.0, 0), (1, 30.0, 5), (2, 5.0, 3)]
        assert stands(changes, 100.0) == [
            Stand(10, 20, Severity.MAJOR),
            Stand(30, 100, Severity.CRITICAL),
            Stand(5, 100, Severity.MINOR),
        ]

    def test_buckets_count_and_keep_the_worst(self):
        found = [Stand(0, 25, Severity.MINOR), Stand(10, 20, Severity.CRITICAL), Stand(90, 500, Severity.MAJOR)]
        buckets = density(found, 0, 100, 10)
        assert [bucket.count for bucket in buckets] == [1, 2, 1, 0, 0, 0, 0, 0, 0, 1]
        assert buckets[1].worst is Severity.CRITICAL
        assert buckets[3].worst is Severity.CLEARED

    @given(st.lists(st.tuples(st.floats(-50, 150), st.floats(0.1, 100)), max_size=20), st.integers(1, 40))
    def test_a_stand_is_seen_in_every_bucket_it_touches(self, spans, number):
        found = [Stand(start, start + length, Severity.MAJOR) for start, length in spans]
        buckets = density(found, 0, 100, number)
        width = 100 / number
        for place, bucket in enumerate(buckets):
            low, high = place * width, (place + 1) * width
            surely = sum(stand.start < high - 1e-6 and stand.end > low + 1e-6 for stand in found)
            assert bucket.count >= surely


@pytest.mark.parametrize("name", ["=1+2", "+cmd", "-x", "@SUM(1)", "\tx", "'=1", "plain", "'quoted'", "-"])
def test_no_cell_is_a_formula_and_each_comes_back(name):
    """A device chooses its own name; a spreadsheet must not compute it."""
    (cell, number) = next(csv.reader([text.csv_line([name, -5])]))
    assert not cell.startswith(("=", "+", "-", "@", "\t"))
    assert text.without_apostrophe(cell) == name and number == "-5"
