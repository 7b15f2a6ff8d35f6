"""Tests that devices make themselves: their history becomes intervals, each probe in one of them, whatever the device's clock says."""

from datetime import UTC, datetime

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.paths.device_tests import DeviceProbe, Following, told_time

AT = datetime(2026, 11, 23, 12, 0, tzinfo=UTC).timestamp()


@pytest.mark.parametrize(
    ("octets", "at"),
    [
        # The example of RFC 2579: Tuesday May 26, 1992 at 1:30:15 PM EDT.
        (
            bytes((7, 200, 5, 26, 13, 30, 15, 0, ord("-"), 4, 0)),
            datetime(1992, 5, 26, 17, 30, 15, tzinfo=UTC).timestamp(),
        ),
        (bytes((7, 234, 11, 23, 12, 0, 1, 5)), AT + 1.5),
        (bytes((7, 234, 11, 23, 13, 30, 0, 0, ord("+"), 1, 30)), AT),
        (bytes((7, 234, 13, 23, 12, 0, 0, 0)), None),
        (bytes((7, 234, 11, 23, 12, 0, 60, 9)), AT + 59.9),
        (b"", None),
        (b"\xff" * 11, None),
    ],
)
def test_times_of_devices(octets, at):
    assert told_time(octets) == (at if at is None else pytest.approx(at))


def probe(number, ms=20, status=1, ahead=0.0, every=5.0, dated=True):
    return DeviceProbe(number, status, ms, AT + number * every + ahead if dated else None)


def followed(ahead=0.0, dated=True, until=40, remembers=50, read_every=20.0):
    """Read as a collector does, until so many probes were made; what came of it."""
    one, closed = Following(), []
    for now in np.arange(AT + 5, AT + 5 * until + 200, read_every):
        newest = min(until, int((now - AT) // 5))
        one.take(
            [probe(number, ahead=ahead, dated=dated) for number in range(max(1, newest - remembers + 1), newest + 1)],
            now,
        )
        closed += one.closed(now)
    return closed


@pytest.mark.parametrize("ahead", [0.0, -3600.0, 30 * 365 * 86400.0])
def test_every_probe_is_in_one_interval_whatever_the_clock_of_the_device_says(ahead):
    closed = followed(ahead)
    begins = [begin for begin, _ in closed]
    assert sum(len(answers.round_trip) for _, answers in closed) == 40
    assert begins == sorted(set(begins)) and all(begin % 60 == 0 for begin in begins)
    # Twelve a minute; where the first read did not know yet how old the newest probe was, some are a read later.
    assert all(8 <= len(answers.round_trip) <= 16 for _, answers in closed[1:-1])
    assert begins[0] >= AT - 60 and begins[-1] <= AT + 5 * 40 + 60


def test_a_device_that_dates_nothing_is_dated_by_when_it_was_read():
    closed = followed(dated=False)
    assert sum(len(answers.round_trip) for _, answers in closed) == 40


def test_losses_are_told_from_probes_that_were_never_sent():
    one = Following()
    history = [
        probe(1, 20),
        probe(2, 0, status=4),
        probe(3, 0, status=3),
        probe(4, 0, status=9),
        probe(5, 40, status=1),
    ]
    one.take(history, AT + 30)
    ((_, answers),) = one.closed(AT + 600)
    assert answers.round_trip.tolist()[0::2] == [20_000, 40_000] and np.isnan(answers.round_trip[1])
    assert answers.arrival.tolist() == [0, -1, 1] and one.reason == ""
    one.take([*history, probe(6, 0, status=6)], AT + 40)
    assert one.reason == "the device has no route to the target"


def test_one_that_began_to_count_anew():
    one = Following()
    one.take([probe(number) for number in range(90, 100)], AT + 500)
    one.closed(AT + 800)
    one.take([probe(number, every=5.0, ahead=800) for number in (1, 2, 3)], AT + 820)
    assert sum(len(answers.round_trip) for _, answers in one.closed(AT + 2000)) == 3


@given(st.lists(st.integers(1, 60), min_size=1, max_size=12), st.integers(0, 30))
def test_a_collector_that_was_restarted_goes_on_without_a_gap_or_a_second_time(reads, cut):
    """Stopped after any read: the next one begins where the stored intervals end, and has nothing twice."""
    one, seen, now = Following(), [], AT
    for place, minutes in enumerate(reads):
        now += 10.0 * minutes
        history = [probe(number, ms=number) for number in range(1, int((now - AT) // 5) + 1)]
        if place == cut:
            one = Following(one.taken_until, one.stored_until)
        one.take(history, now)
        seen += [ms for _, answers in one.closed(now) for ms in answers.round_trip.tolist()]
    one.take([], now)
    seen += [ms for _, answers in one.closed(now + 900) for ms in answers.round_trip.tolist()]
    assert seen == [1000.0 * number for number in range(1, int((now - AT) // 5) + 1)]
