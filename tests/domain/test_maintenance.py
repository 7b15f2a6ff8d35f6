"""Maintenance: recorded, nobody is called, and what is still active at its end is told then."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from lumtar.core.alarms.severity import Severity
from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import calls, maintenance, queries
from lumtar.domain.alarms.actions import Kind, act
from lumtar.domain.alarms.maintenance import MaintenanceSpec, spans
from lumtar.domain.alarms.models import Alarm, Call, Maintenance, Notification, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory import groups
from tests.alarms import first_rules, plan_for, transition

pytestmark = pytest.mark.django_db
HOUR = timedelta(hours=1)


def at(day, hour, month=11):
    return datetime(2026, month, day, hour, tzinfo=UTC)


class TestSpans:
    def test_once(self):
        once = at(1, 8), at(1, 10), "", "UTC"
        assert spans(*once, at(1, 9), at(1, 12)) == [(at(1, 8), at(1, 10))]
        assert spans(*once, at(1, 10), at(2, 0)) == spans(*once, at(1, 0), at(1, 8)) == []

    def test_weekly_at_the_same_clock_on_the_wall(self):
        every = datetime(2026, 10, 18, 1, tzinfo=UTC), datetime(2026, 10, 18, 3, tzinfo=UTC)
        found = spans(*every, "FREQ=WEEKLY;BYDAY=SU", "Europe/London", at(18, 0, 10), at(2, 0))
        assert [start.hour for start, _ in found] == [1, 2, 2], "summer time ends on 25 October"
        assert all(end - start == 2 * HOUR for start, end in found)

    def test_one_that_began_before_is_seen(self):
        assert spans(at(1, 22), at(2, 4), "FREQ=DAILY", "UTC", at(9, 1), at(9, 2)) == [(at(8, 22), at(9, 4))]

    def test_an_end(self):
        assert spans(at(1, 8), at(1, 9), "RRULE:FREQ=DAILY;COUNT=3", "UTC", at(3, 12), at(30, 0)) == []

    @pytest.mark.parametrize(
        "wrong", ["every sunday", "FREQ=HOURLY", "FREQ=DAILY\nEXRULE:x", "FREQ=", "BYDAY=SU", "FREQ=DAILY;COUNT=x"]
    )
    def test_what_is_no_rule_says_so(self, wrong):
        with pytest.raises(Refusal):
            spans(at(1, 8), at(1, 9), wrong, "UTC", at(1, 0), at(9, 0))


@pytest.fixture
def rule():
    first_rules()
    return Rule.objects.get(name="Utilisation")


@pytest.fixture
def turn(device, ports, rule):
    plan = plan_for("duty@oskelund.example")

    def to(severity, port=0):
        text = "94 % full" if severity else "Back to 60 %"
        apply([transition(device, severity, text, interface=ports[port], rule=rule, plan=plan if severity else None)])
        return Alarm.objects.order_by("-changed_at").first()

    return to


@pytest.fixture
def window(device):
    """A maintenance of the device that goes on now."""
    now = datetime.now(UTC).replace(microsecond=0)
    return MaintenanceSpec("Swap", now - HOUR, now + HOUR, "New power supply", devices=[device.pk])


def later(hours):
    """So much later, by making everything that waits so much older."""
    Call.objects.exclude(next_at=None).update(next_at=datetime.now(UTC) - timedelta(seconds=1))
    now = datetime.now(UTC) + timedelta(hours=hours)
    maintenance.begin_due(now)
    calls.advance_due(datetime.now(UTC))


def told():
    return Notification.objects.count()


def shown(is_shelved=False, hours=0.0):
    return queries.active(datetime.now(UTC) + timedelta(hours=hours), is_shelved=is_shelved)[0]


def test_what_is_raised_within_calls_nobody_until_it_is_over(turn, window):
    maintenance.save(window, "anna")
    turn(Severity.MAJOR)
    assert told() == 0 and shown() == []
    (row,) = shown(is_shelved=True)
    assert (row.shelf, row.shelved_by, row.shelved_until) == ("maintenance", "Swap", window.end)
    assert len(shown(hours=1.01)) == 1
    later(1.01)
    assert told() == 1, "it is still active at the end"


def test_what_is_cleared_within_was_nobody_s_business(turn, window):
    maintenance.save(window, "anna")
    turn(Severity.MAJOR)
    turn(Severity.CLEARED)
    later(1.01)
    assert told() == 0


def test_what_was_active_before_is_called_for_no_further(turn, window):
    turn(Severity.MAJOR)
    assert told() == 1
    maintenance.save(window, "anna")
    assert shown() == [] and shown(is_shelved=True)[0].shelf == "maintenance"
    turn(Severity.CRITICAL)
    assert told() == 1


def test_only_what_it_is_about(turn, window, device, ports, rule):
    group = groups.save(
        groups.GroupSpec("Wan", condition="label is “Transport 2”".replace("“", '"').replace("”", '"')), "anna"
    )
    for part, numbers, quiet in (
        ("devices", [device.pk], {0, 1, 2}),
        ("sites", [device.site_id], {0, 1, 2}),
        ("interfaces", [ports[2].pk], {2}),
        ("groups", [group.pk], {1}),
    ):
        made = maintenance.save(replace(window, **{"devices": [], part: numbers}), "anna")
        for port in (0, 1, 2):
            turn(Severity.MAJOR, port)
        labels = {f"hex-wan-1 Transport {port + 1}" for port in quiet}
        assert {row.label for row in shown(is_shelved=True)} == labels, part
        for port in (0, 1, 2):
            turn(Severity.CLEARED, port)
        maintenance.delete(made.pk, "anna")


def test_one_that_is_ended_early_tells_what_is_active(turn, window, device):
    made = maintenance.save(window, "anna")
    turn(Severity.MAJOR)
    now = datetime.now(UTC)
    other = replace(window, start=now + 3 * HOUR, end=now + 4 * HOUR)
    maintenance.save(other, "anna", made.pk, made.edition)
    assert [row.shelf for row in shown()] == [None]
    later(0)
    assert told() == 1


def test_shelved_until_cleared_it_stays_so(turn, window):
    alarm = turn(Severity.MAJOR)
    act([alarm.pk], Kind.SHELVE, "bert")
    maintenance.save(window, "anna")
    assert [row.shelf for row in shown(is_shelved=True, hours=2)] == ["shelve"]


def test_the_next_time_is_noted_when_one_is_over(device):
    now = datetime.now(UTC).replace(microsecond=0)
    start = now - timedelta(days=7) - HOUR
    spec = MaintenanceSpec("Weekly", start, start + 2 * HOUR, repeats="FREQ=WEEKLY", devices=[device.pk])
    made = maintenance.save(spec, "anna")
    assert made.span_start == start + timedelta(days=7) and Maintenance.objects.get().is_begun
    maintenance.begin_due(now + 2 * HOUR)
    after = Maintenance.objects.get()
    assert (after.span_start, after.is_begun) == (start + timedelta(days=14), False)
    assert len(maintenance.calendar(now, now + timedelta(days=28))) == 5


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ({"name": " "}, "1 to 120"),
        ({"end": at(1, 8)}, "ends after it begins"),
        ({"devices": []}, "what it is about"),
        ({"sites": [999]}, "no site 999"),
        ({"zone": "Nowhere"}, "no time zone"),
        ({"repeats": "FREQ=DAILY", "end": at(9, 9) + timedelta(days=3650)}, "at most 31 days"),
        ({"start": at(1, 8), "end": at(1, 9)}, "in the past"),
        ({"repeats": "FREQ=DAILY", "start": at(1, 8), "end": at(3, 8)}, "longer than the time until"),
    ],
)
def test_what_makes_no_sense_is_refused(window, wrong, words):
    with pytest.raises(Refusal, match=words):
        maintenance.save(replace(window, **wrong), "anna")
