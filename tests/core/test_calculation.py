"""The calculation of a figure, in lines that a person can check with a pencil."""

import pytest

from lumtar.core.calculation import FLAG_WORDS, SUMMED, of_rate, of_sum, remarks
from lumtar.core.counters import VOID, Flag
from lumtar.core.speeds import SpeedSource


def test_a_plain_reading():
    told = of_rate("in", 3, 7_500_000, 60_000, 0, 10_000_000, SpeedSource.HIGH_SPEED)
    assert told.figure == "1 Mb/s"
    assert told.lines == [
        "7,500,000 octets counted in 60.00 s × 8",
        "64-bit counter ifHCInOctets.3, no wrap, no restart",
        "= 10.0 % of 10 Mb/s, from ifHighSpeed",
    ]


def test_a_sold_speed_and_a_narrow_counter_are_said():
    told = of_rate("out", 9, 750, 60_000, Flag.NARROW | Flag.WRAPPED, 1000, SpeedSource.OVERRIDE)
    assert "32-bit counter ifOutOctets.9" in told.lines
    assert "a counter passed its end and was unwrapped" in told.lines
    assert told.lines[-1].endswith("the speed sold, set here")


def test_without_a_speed_there_is_no_share():
    assert of_rate("in", 1, 1, 1000, 0, 0, SpeedSource.UNKNOWN).lines[-1] == "the device does not say its speed"


@pytest.mark.parametrize("flag", [flag for flag in Flag if flag & VOID])
def test_what_is_void_has_no_rate_but_a_reason(flag):
    told = of_rate("in", 1, 0, 0, int(flag), 10**9, SpeedSource.HIGH_SPEED)
    assert told.figure == "no rate" and told.lines


@pytest.mark.parametrize(("flag", "words"), FLAG_WORDS.items())
def test_every_remark_is_made_alone_and_with_others(flag, words):
    assert remarks(int(flag)) == [words]
    assert words in remarks(int(flag | Flag.NARROW | Flag.WRAPPED))


def test_nothing_remarkable():
    assert remarks(0) == remarks(int(Flag.NARROW)) == []
    assert of_rate("in", 1, 0, 0, 0, 10**9, SpeedSource.HIGH_SPEED).lines == ["nothing was counted"]


@pytest.mark.parametrize(
    ("readings", "interval_s", "measured_s", "words"),
    [
        (60, 60, 3600, "sum of 60 readings, 60 measured"),
        (58, 60, 3480, "sum of 58 readings, 58 measured, 2 missing because of: silent: no answer"),
        # Polled every ten minutes then, every minute now: nothing is missing.
        (6, 60, 3600, "sum of 6 readings, 6 measured"),
        (1, 3600, 3600, "sum of 1 reading, 1 measured"),
    ],
)
def test_a_sum_says_what_is_missing_by_the_time_that_nothing_covers(readings, interval_s, measured_s, words):
    sums = dict.fromkeys(SUMMED, 0) | {"readings": readings, "elapsed_ms": measured_s * 1000, "in_octets": 450_000}
    told = of_sum(
        "in", sums, 3600 - measured_s, interval_s, ["silent: no answer"], 0, SpeedSource.UNKNOWN, "five minutes"
    )
    assert told.lines[1] == words
    assert told.lines[2] == "kept as sums over five minutes"
