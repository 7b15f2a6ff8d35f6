"""What people do about alarms, and what follows from it."""

from datetime import UTC, datetime, timedelta

import pytest

from lumtar.core.alarms.severity import Severity
from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import queries
from lumtar.domain.alarms.actions import MOST, Kind, act
from lumtar.domain.alarms.models import Alarm, AlarmAction, Notification, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory import services
from tests.alarms import first_rules, plan_for, transition

pytestmark = pytest.mark.django_db
DUTY = "duty@oskelund.example"


@pytest.fixture
def raise_(db):
    """Raise, change or clear the alarm of one device; some minutes ago, or now."""
    first_rules()
    device = services.add_device("127.0.9.1", name="hex-wan-1", kind="v2c", secret={"community": "word"})
    rule = Rule.objects.get(name="Reachability")

    def change(severity, minutes_ago=0.0):
        at = datetime.now(UTC) - timedelta(minutes=minutes_ago)
        apply([transition(device, severity, "Does not answer", at=at, rule=rule, plan=plan_for(DUTY))])
        return Alarm.objects.get()

    return change


def shown(is_shelved=False, at=None):
    rows, _ = queries.active(at or datetime.now(UTC), is_shelved=is_shelved)
    return rows


def test_an_acknowledgement_is_seen_and_taken_back(raise_):
    alarm = raise_(Severity.MAJOR, 5)
    assert act([alarm.pk], Kind.ACKNOWLEDGE, "anna", " on my way ") == 1
    (row,) = shown()
    assert (row.acknowledged_by, row.acknowledged_at is not None) == ("anna", True)
    act([alarm.pk], Kind.UNACKNOWLEDGE, "bert")
    (row,) = shown()
    assert (row.acknowledged_by, row.acknowledged_at) == (None, None)
    assert [(each.kind, each.by, each.text) for each in queries.actions(alarm.pk, datetime.now(UTC))] == [
        ("unacknowledge", "bert", ""),
        ("acknowledge", "anna", "on my way"),
    ]


def test_one_that_gets_worse_has_to_be_acknowledged_again_and_one_that_gets_better_has_not(raise_):
    alarm = raise_(Severity.MAJOR, 5)
    act([alarm.pk], Kind.ACKNOWLEDGE, "anna")
    raise_(Severity.MINOR)
    assert shown()[0].acknowledged_by == "anna"
    raise_(Severity.CRITICAL)
    assert shown()[0].acknowledged_by is None


def test_clearing_ends_an_acknowledgement(raise_):
    alarm = raise_(Severity.MAJOR, 5)
    act([alarm.pk], Kind.ACKNOWLEDGE, "anna")
    raise_(Severity.CLEARED)
    raise_(Severity.MAJOR)
    assert shown()[0].acknowledged_by is None


def test_shelved_until_cleared_it_is_listed_apart_and_notifies_nobody(raise_):
    alarm = raise_(Severity.MAJOR, 5)
    told = Notification.objects.count()
    act([alarm.pk], Kind.SHELVE, "anna")
    assert shown() == [] and [row.shelved_by for row in shown(is_shelved=True)] == ["anna"]
    raise_(Severity.CRITICAL)
    raise_(Severity.CLEARED)
    assert Notification.objects.count() == told
    raise_(Severity.MAJOR)
    assert len(shown()) == 1 and Notification.objects.count() == told + 1


def test_shelved_for_a_time_it_stays_so_though_it_clears(raise_):
    alarm = raise_(Severity.MAJOR, 5)
    until = datetime.now(UTC) + timedelta(hours=1)
    act([alarm.pk], Kind.SHELVE, "anna", until=until)
    raise_(Severity.CLEARED)
    raise_(Severity.MAJOR)
    assert shown() == [] and shown(is_shelved=True)[0].shelved_until == until
    assert len(shown(at=until + timedelta(seconds=1))) == 1, "then it is back"
    act([alarm.pk], Kind.UNSHELVE, "anna")
    assert len(shown()) == 1


def test_the_past_shows_what_held_then(raise_):
    alarm = raise_(Severity.MAJOR, 30)
    act([alarm.pk], Kind.SHELVE, "anna")
    act([alarm.pk], Kind.ACKNOWLEDGE, "anna")
    (row,) = shown(at=datetime.now(UTC) - timedelta(minutes=10))
    assert (row.acknowledged_by, row.shelved_by) == (None, None)


def test_several_at_once(raise_):
    alarm = raise_(Severity.MAJOR, 5)
    device = services.add_device("127.0.9.2", name="sal-acc-1", kind="v2c", secret={"community": "word"})
    apply([transition(device, Severity.MAJOR, "Does not answer", rule=Rule.objects.get(name="Reachability"))])
    assert act(list(Alarm.objects.values_list("pk", flat=True)), Kind.ACKNOWLEDGE, "anna") == 2
    assert {row.acknowledged_by for row in shown()} == {"anna"} and alarm.actions.count() == 1


@pytest.mark.parametrize(
    ("kind", "more", "words"),
    [
        (Kind.COMMENT, {"text": "  "}, "needs a text"),
        (Kind.ACKNOWLEDGE, {"until": datetime.now(UTC) + timedelta(hours=1)}, "Only shelving"),
        (Kind.SHELVE, {"until": datetime.now(UTC) - timedelta(hours=1)}, "yet to come"),
        (Kind.SHELVE, {"until": datetime.now(UTC) + timedelta(days=91)}, "at most 90 days"),
    ],
)
def test_what_makes_no_sense_is_refused_in_words(raise_, kind, more, words):
    with pytest.raises(Refusal, match=words):
        act([raise_(Severity.MAJOR).pk], kind, "anna", **more)
    assert not AlarmAction.objects.exists()


def test_what_is_cleared_or_gone_is_refused(raise_):
    alarm = raise_(Severity.MAJOR, 5)
    raise_(Severity.CLEARED)
    for kind in (Kind.ACKNOWLEDGE, Kind.SHELVE):
        with pytest.raises(Refusal, match="hex-wan-1 is cleared already"):
            act([alarm.pk], kind, "anna")
    act([alarm.pk], Kind.COMMENT, "anna", "it was the power")
    for wanted in ([alarm.pk, 10**9], [], range(MOST + 1)):
        with pytest.raises(Refusal):
            act(wanted, Kind.COMMENT, "anna", "text")


def test_similar_ones_before_are_its_own_times_and_those_close_to_it_with_what_was_said(raise_):
    alarm = raise_(Severity.MAJOR, 300)
    raise_(Severity.CRITICAL, 290)
    raise_(Severity.CLEARED, 280)
    other = services.add_device("127.0.9.2", name="sal-wan-1", kind="v2c", secret={"community": "word"})
    rule = Rule.objects.get(name="Reachability")
    for severity, minutes_ago in ((Severity.MAJOR, 200), (Severity.CLEARED, 190)):
        at = datetime.now(UTC) - timedelta(minutes=minutes_ago)
        apply([transition(other, severity, "Does not answer", at=at, rule=rule)])
    there = Alarm.objects.get(device=other)
    there.actions.create(
        at=datetime.now(UTC) - timedelta(minutes=195), by="anna", kind=Kind.COMMENT, text="power cut", severity=4
    )
    at = datetime.now(UTC) - timedelta(minutes=5)
    apply([transition(alarm.device, Severity.MAJOR, "Does not answer", at=at, rule=rule)])
    own, elsewhere = queries.similar(alarm.pk, datetime.now(UTC))
    assert (own.alarm_id, own.severity, own.by) == (alarm.pk, Severity.CRITICAL, None)
    assert own.cleared_at - own.raised_at == pytest.approx(timedelta(minutes=20), abs=timedelta(seconds=1))
    assert (elsewhere.label, elsewhere.severity, elsewhere.by, elsewhere.comment) == (
        "sal-wan-1", Severity.MAJOR, "anna", "power cut",
    )  # fmt: skip
    assert queries.similar(alarm.pk, datetime.now(UTC) - timedelta(minutes=285)) == [], "as it was known then"
