"""Hours of the week, who is on duty, the steps of a call plan."""

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.calling import Call, Hours, Step, Substitute, Turns, calls_of, on_duty
from lumtar.core.refusal import Refusal

MONDAY = datetime(2026, 11, 23, tzinfo=UTC)


def at(day, hour, minute=0):
    return MONDAY + timedelta(days=day, hours=hour, minutes=minute)


class TestHours:
    @pytest.mark.parametrize(
        ("text", "inside", "outside"),
        [
            ("Mon-Fri 08:00-18:00", [at(0, 8), at(4, 17, 59)], [at(0, 7, 59), at(4, 18), at(5, 12)]),
            ("Mon-Fri 08:00-18:00, Sat 10:00-14:00", [at(5, 10)], [at(6, 10), at(5, 14)]),
            ("22:00-06:00", [at(0, 23), at(1, 5, 59), at(0, 3)], [at(0, 6), at(0, 21, 59)]),
            ("Sun 22:00-06:00", [at(6, 23), at(0, 5)], [at(0, 6), at(1, 5)]),
            ("Sat-Mon", [at(5, 0), at(0, 23, 59)], [at(1, 0), at(4, 23, 59)]),
            ("sat", [at(5, 12)], [at(6, 0)]),
            ("00:00-24:00", [at(3, 0), at(3, 23, 59)], []),
            ("", [at(3, 3)], []),
        ],
    )
    def test_hours_as_they_are_written(self, text, inside, outside):
        hours = Hours.of(text)
        assert all(hours.includes(each) for each in inside)
        assert not any(hours.includes(each) for each in outside)

    @pytest.mark.parametrize(
        "text", ["8-18", "Mo 08:00-10:00", "Mon 25:00-26:00", "Mon-Fri 08:61-10:00", "Mon;Tue", "x" * 400]
    )
    def test_what_is_not_understood_says_so(self, text):
        with pytest.raises(Refusal):
            Hours.of(text)

    def test_an_unknown_zone_says_so(self):
        with pytest.raises(Refusal, match="no time zone"):
            Hours.of("Mon", "Europe/Oskelund")
        with pytest.raises(Refusal, match="no time zone"):
            Hours.of("Mon", "../../etc/passwd")

    def test_they_are_local_and_end_by_the_clock_on_the_wall(self):
        hours = Hours.of("22:00-06:00", "Europe/London")
        summer = datetime(2026, 7, 1, 21, 30, tzinfo=UTC)
        assert hours.includes(summer) and hours.end_after(summer) == datetime(2026, 7, 2, 5, 0, tzinfo=UTC)
        # The night in which the clocks go back is an hour longer.
        autumn = datetime(2026, 10, 24, 21, 30, tzinfo=UTC)
        assert hours.end_after(autumn) == datetime(2026, 10, 25, 6, 0, tzinfo=UTC)
        assert hours.end_after(at(0, 12)) is None and Hours.of("").end_after(at(0, 12)) is None

    @given(st.datetimes(datetime(2020, 1, 1), datetime(2030, 1, 1), timezones=st.just(UTC)))
    def test_their_end_is_the_first_minute_outside(self, when):
        hours = Hours.of("Mon-Wed 09:30-17:00, Fri 20:00-04:00")
        end = hours.end_after(when)
        assert (end is not None) == hours.includes(when)
        if end is not None:
            assert when < end and not hours.includes(end) and hours.includes(end - timedelta(minutes=1))


class TestDuty:
    def test_everybody_or_one_after_another(self):
        assert on_duty((1, 2, 3), MONDAY) == (1, 2, 3) and on_duty((), MONDAY) == ()
        weekly = Turns(7, datetime(2026, 11, 23, 8), "UTC")
        assert [on_duty((1, 2, 3), at(day, 9), turns=weekly) for day in (-7, 0, 6, 7, 14, 21)] == [
            (3,), (1,), (1,), (2,), (3,), (1,),
        ]  # fmt: skip
        assert on_duty((1, 2, 3), at(0, 7), turns=weekly) == (3,), "until the handover at 8"

    def test_the_handover_stays_at_its_hour_when_the_clocks_change(self):
        weekly = Turns(7, datetime(2026, 10, 19, 8), "Europe/London")
        zone = ZoneInfo("Europe/London")
        assert on_duty((1, 2), datetime(2026, 10, 26, 7, 59, tzinfo=zone), turns=weekly) == (1,)
        assert on_duty((1, 2), datetime(2026, 10, 26, 8, 0, tzinfo=zone), turns=weekly) == (2,)

    def test_outside_its_hours_nobody(self):
        office = Hours.of("Mon-Fri 08:00-18:00")
        assert on_duty((1,), at(0, 12), hours=office) == (1,) and on_duty((1,), at(5, 12), hours=office) == ()

    def test_somebody_stands_in_and_nobody_is_called_twice(self):
        away = [Substitute(2, 1, at(0, 0), at(1, 0)), Substitute(3, 2, at(0, 0), at(1, 0))]
        assert on_duty((1, 3), at(0, 12), substitutes=away) == (3,)
        assert on_duty((1, 3), at(1, 0), substitutes=away) == (1, 3)
        circle = [Substitute(2, 1, at(0, 0), at(1, 0)), Substitute(1, 2, at(0, 0), at(1, 0))]
        assert on_duty((1,), at(0, 12), substitutes=circle) == (2,)

    @given(st.integers(1, 90), st.integers(1, 6), st.integers(-5000, 5000))
    def test_turns_are_equally_long_and_come_round(self, days, members, number):
        turns = Turns(days, datetime(2026, 1, 5, 9), "UTC")
        start = datetime(2026, 1, 5, 9, tzinfo=UTC)
        begin = start + timedelta(days=number % (300 // days + 1) * days)
        people = tuple(range(members))
        (one,) = on_duty(people, begin, turns=turns)
        assert on_duty(people, begin + timedelta(days=days, seconds=-1), turns=turns) == (one,)
        assert on_duty(people, begin + timedelta(days=days), turns=turns) == ((one + 1) % members,)


class TestSteps:
    def test_calls_follow_in_the_order_of_time(self):
        steps = [Step(times=3, repeat_s=600), Step(after_s=900)]
        assert calls_of(steps) == (Call(0, 0, 0), Call(600, 0, 1), Call(900, 1, 0), Call(1200, 0, 2))
        assert calls_of([]) == ()

    @pytest.mark.parametrize(
        "wrong",
        [
            {"after_s": -1},
            {"after_s": 10**7},
            {"times": 0},
            {"times": 21, "repeat_s": 60},
            {"times": 2},
            {"times": 2, "repeat_s": 5},
        ],
    )
    def test_what_makes_no_sense_is_refused(self, wrong):
        with pytest.raises(Refusal):
            Step(**wrong)
        with pytest.raises(Refusal):
            calls_of([Step()] * 21)
