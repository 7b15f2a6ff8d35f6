"""Consequences under their cause, flapping, closing, and the report of a rule."""

from datetime import UTC, datetime, timedelta

import pytest

from lumtar.core.alarms.severity import Severity
from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import calls, causes, queries
from lumtar.domain.alarms.actions import Kind, act
from lumtar.domain.alarms.models import Alarm, AlarmAction, Call, Consequence, Notification, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory import services
from lumtar.domain.inventory.models import Device, DeviceState
from lumtar.domain.reports import rule_report
from tests.alarms import first_rules, plan_for, transition

pytestmark = pytest.mark.django_db


@pytest.fixture
def rule():
    first_rules()
    return Rule.objects.get(name="Reachability")


@pytest.fixture
def network(db):
    """core <- dist-a and dist-b; access hangs on both of them, leaf on access."""
    made = {}
    for number, name in enumerate(("core", "dist-a", "dist-b", "access", "leaf"), 1):
        made[name] = services.add_device(f"10.9.0.{number}", name=name, kind="v2c", secret={"community": "word"})
    for name, above in (
        ("dist-a", ["core"]),
        ("dist-b", ["core"]),
        ("access", ["dist-a", "dist-b"]),
        ("leaf", ["access"]),
    ):
        device = Device.objects.get(name=name)
        services.change_device(device.pk, device.edition, "anna", hangs_on=above)
    return made


@pytest.fixture
def turn(network, rule):
    plan = plan_for("duty@oskelund.example")

    def to(name, severity, *, type="unreachable", at=None):
        text = "Does not answer" if severity else "Answers again"
        apply([transition(network[name], severity, text, rule=rule, type=type, at=at, plan=plan if severity else None)])

    return to


def shown():
    """Active alarms that stand by themselves, and how much follows from each."""
    rows, _ = queries.active(datetime.now(UTC))
    return {f"{row.label} {row.type}" if row.type != "unreachable" else row.label: row.consequences for row in rows}


def called():
    return [each.change.alarm.label for each in Notification.objects.filter(change__severity__gt=0).order_by("pk")]


class TestConsequences:
    def test_behind_what_failed_nobody_is_called(self, turn):
        turn("core", 5)
        turn("dist-a", 5)
        turn("dist-b", 5)
        turn("leaf", 5)
        assert shown() == {"core": 3} and called() == ["core"]
        reason = Consequence.objects.get(alarm__label="leaf").reason
        assert reason == "It is reached by way of core, which does not answer"

    def test_one_way_is_enough(self, turn):
        turn("dist-a", 5)
        turn("access", 5)
        assert shown() == {"dist-a": 0, "access": 0} and called() == ["dist-a", "access"]
        turn("dist-b", 5)
        assert shown() == {"dist-a": 1, "dist-b": 0}, "now both ways are gone"

    def test_what_was_raised_before_its_cause_is_put_under_it(self, turn):
        turn("leaf", 5)
        turn("core", 5)
        assert shown() == {"core": 1}
        assert Call.objects.get(alarm__label="leaf").next_at is None

    def test_other_alarms_of_a_silent_device_follow_from_that(self, turn):
        turn("leaf", 3, type="utilisation")
        turn("leaf", 5)
        assert shown() == {"leaf": 1}
        assert Consequence.objects.get().reason == "The device itself does not answer"

    def test_what_outlives_its_cause_is_called_for_after_a_while(self, turn):
        turn("core", 5)
        turn("leaf", 5)
        turn("core", 0)
        assert shown() == {"leaf": 0} and called() == ["core"]
        due = Call.objects.get(alarm__label="leaf").next_at
        assert timedelta(seconds=100) < due - datetime.now(UTC) <= causes.SETTLING
        calls.advance_due(datetime.now(UTC) + causes.SETTLING)
        assert called() == ["core", "leaf"]

    def test_what_ends_with_its_cause_called_nobody(self, turn):
        turn("core", 5)
        turn("leaf", 5)
        turn("core", 0)
        turn("leaf", 0)
        calls.advance_due(datetime.now(UTC) + causes.SETTLING)
        assert called() == ["core"] and not Call.objects.exists()

    def test_the_past_shows_what_held_then(self, turn):
        turn("core", 5)
        turn("leaf", 5)
        then = datetime.now(UTC)
        turn("core", 0)
        rows, _ = queries.active(then, cause=Alarm.objects.get(label="core").pk)
        assert [row.label for row in rows] == ["leaf"] and rows[0].cause_reason.startswith(
            "It is reached by way of core"
        )

    def test_somebody_overrules_it(self, turn):
        turn("core", 5)
        turn("leaf", 5)
        leaf = Alarm.objects.get(label="leaf")
        assert causes.overrule(leaf.pk, "anna", datetime.now(UTC))
        assert not causes.overrule(leaf.pk, "anna", datetime.now(UTC))
        calls.advance_due(datetime.now(UTC))
        assert shown() == {"core": 0, "leaf": 0} and called() == ["core", "leaf"]

    def test_while_the_way_is_silent_too_it_is_waited_for(self, turn, network):
        DeviceState.objects.filter(device=network["access"]).update(silent_polls=1)
        turn("leaf", 5)
        assert called() == [] and Call.objects.get().next_at > datetime.now(UTC)
        turn("access", 5)
        assert shown() == {"access": 1} and called() == ["access"]

    def test_when_nearly_all_are_silent_at_once_it_is_waited_as_well(self, turn):
        DeviceState.objects.update(silent_polls=1)
        turn("core", 5)
        assert called() == []

    def test_they_do_not_hang_on_each_other(self, network):
        core = Device.objects.get(name="core")
        with pytest.raises(Refusal, match="leaf hangs on core already"):
            services.change_device(core.pk, core.edition, "anna", hangs_on=["leaf"])
        with pytest.raises(Refusal, match="is no device"):
            services.change_device(core.pk, core.edition, "anna", hangs_on=["nobody"])


class TestFlapping:
    def test_it_is_called_for_a_few_times_and_then_only_if_it_stays(self, turn):
        for _ in range(8):
            turn("core", 5)
            turn("core", 0)
        assert called() == ["core"] * (causes.FLAPPING - 1)
        turn("core", 5)
        (row,) = queries.active(datetime.now(UTC))[0]
        assert row.raised_lately == 9
        calls.advance_due(datetime.now(UTC) + causes.CALM)
        assert len(called()) == causes.FLAPPING

    def test_long_ago_is_forgotten(self, turn):
        for hours in range(12, 2, -1):
            at = datetime.now(UTC) - timedelta(hours=hours)
            turn("core", 5, at=at)
            turn("core", 0, at=at + timedelta(minutes=1))
        turn("core", 5)
        assert queries.active(datetime.now(UTC))[0][0].raised_lately == 1 and called()[-1] == "core"


def test_closed_it_is_listed_apart_until_it_is_raised_anew(turn):
    turn("core", 5)
    alarm = Alarm.objects.get()
    act([alarm.pk], Kind.CLOSE, "anna", "replaced the fuse")
    assert shown() == {} and queries.active(datetime.now(UTC), is_shelved=True)[0][0].shelf == "close"
    assert Call.objects.get().next_at is None
    act([alarm.pk], Kind.REOPEN, "anna")
    assert shown() == {"core": 0}
    act([alarm.pk], Kind.CLOSE, "anna")
    turn("core", 0)
    turn("core", 5)
    assert shown() == {"core": 0}
    turn("core", 0)
    with pytest.raises(Refusal, match="nothing to close"):
        act([alarm.pk], Kind.CLOSE, "anna")
    with pytest.raises(Refusal, match="planned with its time"):
        act([alarm.pk], Kind.MAINTENANCE, "anna")


def test_the_history_is_searched(turn):
    now = datetime.now(UTC)
    turn("core", 5)
    turn("leaf", 3, type="utilisation")

    def found(words):
        return [row.label for row in queries.history(now - timedelta(hours=1), now + timedelta(hours=1), 10, 0, words)]

    assert found("leaf") == ["leaf"] and found("LEAF utilis") == ["leaf"] and found("leaf unreachable") == []
    assert found("") == ["leaf", "core"] and found("100%") == [] and found("does not answer") == ["leaf", "core"]


class TestReport:
    def test_it_says_what_was_of_use_and_what_would_help(self, turn, rule):
        start = datetime.now(UTC) - timedelta(days=3)
        for number in range(8):
            at = start + timedelta(hours=number)
            turn("core", 5, at=at)
            turn("core", 0, at=at + timedelta(seconds=90))
        turn("leaf", 5, at=start + timedelta(hours=9))
        report = rule_report.of_rule(rule.pk, start, datetime.now(UTC))
        assert (report.alarms, report.of_use, report.median_s) == (9, 0, 90.0)
        assert [(label, count) for _, label, count, _ in report.noisiest] == [("core", 8), ("leaf", 1)]
        assert report.proposals == [
            "Half of its alarms end within 1 minute. Held for 2 minutes longer, 8 of 9 would not have been raised.",
            "core makes 8 of 9 alarms: exempt it, or give it limits of its own.",
            "Nobody acknowledged, commented on or closed any of them: a higher limit or a longer hold would lose nothing.",
        ]
        act([Alarm.objects.get(label="leaf").pk], Kind.ACKNOWLEDGE, "anna")
        assert rule_report.of_rule(rule.pk, start, datetime.now(UTC)).of_use == 1

    def test_what_somebody_does_is_about_the_last_time_it_was_raised(self, turn, rule):
        start = datetime.now(UTC) - timedelta(days=3)
        for number in range(3):
            at = start + timedelta(hours=number)
            turn("core", 5, at=at)
            turn("core", 0, at=at + timedelta(minutes=5))
        core = Alarm.objects.get(label="core")
        late, before = start + timedelta(hours=1, minutes=20), start - timedelta(minutes=1)
        for at, kind in ((late, Kind.COMMENT), (late, Kind.ACKNOWLEDGE), (before, Kind.COMMENT), (late, Kind.SHELVE)):
            AlarmAction.objects.create(alarm=core, at=at, by="anna", kind=kind, severity=5)
        report = rule_report.of_rule(rule.pk, start, datetime.now(UTC))
        assert (report.alarms, report.of_use) == (3, 1)
        assert report.noisiest == [(core.pk, "core", 3, 1)]

    def test_of_few_alarms_nothing_is_proposed(self, turn, rule):
        turn("core", Severity.CRITICAL)
        report = rule_report.of_rule(rule.pk, datetime.now(UTC) - timedelta(hours=1), datetime.now(UTC))
        assert (report.alarms, report.proposals) == (1, [])
