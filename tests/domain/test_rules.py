"""Rules as people change them, and what becomes of the alarms that they raised."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from django.db import connection
from django.test.utils import CaptureQueriesContext

from lumtar.core.alarms.facts import Ended
from lumtar.core.alarms.severity import Severity
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Pairs
from lumtar.domain.alarms import memory, messages, queries, rules, sending
from lumtar.domain.alarms.models import Alarm, AlarmChange, Notification, Rule, RuleMemory
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory import services
from lumtar.domain.inventory.models import Interface
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation import resources
from tests.alarms import first_rules, plan_for, transition

pytestmark = pytest.mark.django_db
NOW = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)
DUTY, NIGHT = "duty@oskelund.example", "night@oskelund.example"


@pytest.fixture(autouse=True)
def there_are_rules(db):
    first_rules()


@pytest.fixture
def device():
    return services.add_device("127.0.9.1", name="hex-wan-1", site="Hexwater", kind="v2c", secret={"community": "word"})


@pytest.fixture
def ports(device):
    return Interface.objects.bulk_create(
        Interface(device=device, if_index=n, label=f"Transport {n}") for n in range(1, 4)
    )


@pytest.fixture
def rule():
    return Rule.objects.get(name="Utilisation")


@pytest.fixture
def raised(device, ports, rule):
    told = transition(device, Severity.MAJOR, "94 % full", at=NOW, interface=ports[0], rule=rule, plan=plan_for(DUTY))
    apply([told])
    return replace(told, armed=rule.armed)


def test_a_window_has_to_hold_a_poll_of_the_slowest_device_that_is_meant(rule, device, ports):
    device.interval_s = 300
    device.save()
    other = services.add_device("127.0.9.2", name="sal-acc-1", kind="v2c", secret={"community": "word"})
    Interface.objects.create(device=other, if_index=1, label="Floor")
    wanted = {"statistic": "mean", "window_s": 120}
    with pytest.raises(Refusal, match="interval of 5 minutes at which hex-wan-1 is polled; choose at least 10 minutes"):
        rules.change(rule.pk, wanted, "anna")
    assert rules.change(rule.pk, {**wanted, "scope": "label is Floor"}, "anna").window_s == 120


def test_another_window_watches_something_else(rule, raised):
    rules.change(rule.pk, {"statistic": "mean", "window_s": 600}, "anna")
    assert Alarm.objects.get().is_cleared
    last = AlarmChange.objects.order_by("-pk").first()
    assert last.text == "The rule Utilisation watches something else now"


def said(notification):
    """The text of the message that a notification goes out with."""
    sending.gather(datetime.now(UTC) + timedelta(minutes=5))
    notification.refresh_from_db()
    return messages._about_one(notification, messages._told(notification.change), "")[1]


def test_the_instructions_of_a_rule_stand_in_its_mails_but_not_once_it_is_cleared(rule, raised):
    rules.change(rule.pk, {"instructions": "Ask the provider for the burst."}, "anna")
    rule.refresh_from_db()
    up = Notification.objects.get()
    assert "What to do\nAsk the provider for the burst." in said(up)
    apply([replace(raised, severity=Severity.CLEARED, facts=Ended("Back"))])
    down = Notification.objects.exclude(pk=up.pk).get()
    assert "Ask the provider" not in said(down)
    assert queries.instructions(up.change.alarm_id) == "Ask the provider for the burst."


def test_a_test_goes_the_way_of_a_real_alarm_and_is_over_at_once(rule):
    with pytest.raises(Refusal, match="calls nobody"):
        rules.send_test(rule.pk, "anna")
    rules.change(rule.pk, {"plan_id": plan_for(DUTY, NIGHT).pk}, "anna")
    assert rules.send_test(rule.pk, "anna") == 2
    alarm = Alarm.objects.get()
    assert (alarm.type, alarm.resource_kind, alarm.is_cleared) == ("test", "lumtar", True)
    told = Notification.objects.values_list("change__severity", "target")
    assert sorted(told) == [(0, DUTY), (0, NIGHT), (4, DUTY), (4, NIGHT)]
    assert rules.send_test(rule.pk, "anna") == 2 and Notification.objects.count() == 8


class TestSwitchedOff:
    def test_its_alarms_are_cleared_with_the_reason_and_those_who_were_told_hear_of_it(self, rule, raised):
        rules.change(rule.pk, {"plan_id": plan_for(NIGHT).pk}, "anna")
        rules.change(rule.pk, {"enabled": False}, "anna")
        alarm = Alarm.objects.get()
        assert alarm.is_cleared
        last = alarm.changes.order_by("-at").first()
        assert (last.severity, last.text) == (0, "The rule Utilisation was switched off")
        assert list(last.notifications.values_list("target", flat=True)) == [DUTY]

    def test_what_it_raised_is_on_the_way_still_and_comes_to_nothing(self, rule, raised, ports):
        rules.change(rule.pk, {"enabled": False}, "anna")
        late = replace(raised, resource=ports[1].pk)
        assert apply([late]) == [] and not Alarm.objects.filter(is_cleared=False).exists()
        rules.change(rule.pk, {"enabled": True}, "anna")
        assert apply([late]) == [], "it was raised by the rule as it was before"
        rule.refresh_from_db()
        assert len(apply([replace(late, armed=rule.armed)])) == 1

    def test_another_limit_keeps_its_alarms(self, rule, raised):
        rules.change(rule.pk, {"levels": [{"severity": 4, "limit": 95, "clear": 85}]}, "anna")
        changed = Rule.objects.get(pk=rule.pk)
        assert not Alarm.objects.get().is_cleared
        assert (changed.revision, changed.armed) == (rule.revision + 1, rule.armed)

    def test_only_who_is_told_is_no_other_rule(self, rule):
        assert rules.change(rule.pk, {"plan_id": plan_for(NIGHT).pk}, "anna").revision == rule.revision
        assert Entry.objects.get(kind="user", text__contains="plan_id").by == "anna"

    def test_watching_something_else_clears_them_too(self, rule, raised, device):
        rules.change(rule.pk, {"measure": "errors"}, "anna")
        assert Alarm.objects.get().is_cleared
        assert AlarmChange.objects.filter(facts__reason="The rule Utilisation watches something else now").count() == 1


def test_a_rule_that_makes_no_sense_is_refused_and_nothing_is_changed(rule):
    for wanted, words in (
        ({"levels": []}, "one to five levels"),
        ({"levels": [{"severity": 4}]}, "clearing limit"),
        ({"scope": "role is"}, "where a value should stand"),
        ({"hold_s": 60, "times": 3, "of": 3}, "not both"),
        ({"plan_id": 4_000_000}, "call plan"),
    ):
        with pytest.raises(Refusal, match=words):
            rules.change(rule.pk, wanted, "anna")
    reach = Rule.objects.get(name="Reachability")
    with pytest.raises(Refusal, match="is no field"):
        rules.change(reach.pk, {"scope": "role is wan"}, "anna")
    assert Rule.objects.get(pk=rule.pk).revision == 1


class TestMany:
    def test_a_thousand_transitions_cost_a_handful_of_statements(self, device, rule):
        made = Interface.objects.bulk_create(
            Interface(device=device, if_index=n, label=f"g{n}") for n in range(1, 1001)
        )
        raise_all = [
            transition(device, 4, "full", at=NOW, interface=port, rule=rule, plan=plan_for(DUTY)) for port in made
        ]
        clear_all = [
            transition(device, 0, "empty", at=NOW + timedelta(minutes=1), interface=port, rule=rule) for port in made
        ]
        with CaptureQueriesContext(
            connection,
        ) as asked:
            assert len(apply(raise_all)) == 1000
        assert len(asked) < 25
        with CaptureQueriesContext(connection) as asked:
            assert len(apply([*clear_all, *clear_all])) == 1000
        assert len(asked) < 25
        assert AlarmChange.objects.count() == 2000 and Notification.objects.count() == 2000

    def test_an_alarm_that_comes_and_goes_within_one_batch_has_its_whole_history(self, device, ports, rule):
        told = [
            transition(device, severity, "x", at=NOW + timedelta(minutes=n), interface=ports[0], rule=rule)
            for n, severity in enumerate((3, 4, 4, 0, 0, 5))
        ]
        apply(told)
        assert list(AlarmChange.objects.order_by("at").values_list("severity", flat=True)) == [3, 4, 0, 5]
        alarm = Alarm.objects.get()
        assert (alarm.severity, alarm.is_cleared, alarm.raised_at) == (5, False, NOW + timedelta(minutes=5))

    def test_more_than_a_page_of_them_are_all_there(self, device, rule):
        made = Interface.objects.bulk_create(Interface(device=device, if_index=n, label=f"g{n}") for n in range(1, 701))
        apply([transition(device, 4, "full", at=NOW, interface=port, rule=rule) for port in made])
        pages = [queries.active(NOW, limit=300, offset=offset) for offset in (0, 300, 600)]
        assert [total for _, total in pages] == [700] * 3
        assert len({row.id for rows, _ in pages for row in rows}) == 700


class TestResources:
    def test_an_alarm_keeps_the_name_of_what_it_was_about(self, device, ports, raised):
        services.retire(device.pk, "anna")
        services.delete(device.pk, "anna")
        row = queries.by_id(Alarm.objects.get().pk, datetime.now(UTC))
        assert (row.label, row.site, row.severity) == ("hex-wan-1 Transport 1", "Hexwater", 0)
        assert row.text == "Cleared: the device was retired"

    def test_a_further_kind_is_registered_and_nothing_else(self, monkeypatch, rule):
        """A toy: cupboards."""
        kind = resources.Kind(
            "cupboard",
            "cupboard",
            "/cupboards/{id}",
            lambda ids: {n: resources.Named(f"Cupboard {n}", "Hexwater") for n in ids},
        )
        monkeypatch.setitem(resources.KINDS, "cupboard", kind)
        told = replace(transition(device_like(7), 4, "door open", at=NOW), kind="cupboard", device=None)
        apply([told])
        row = queries.active(NOW)[0][0]
        assert (row.label, row.site, row.page, row.text) == ("Cupboard 7", "Hexwater", "/cupboards/7", "door open")

    def test_nothing_is_raised_about_what_is_not_there(self, ports, raised):
        assert apply([replace(raised, resource=987654)]) == []

    def test_past_lists_of_ports_show_the_severity_of_their_time(self, device, ports, raised):
        from lumtar.domain.reports.ports import find as find_ports

        apply(
            [
                transition(
                    device,
                    0,
                    "empty",
                    at=NOW + timedelta(minutes=5),
                    interface=ports[0],
                    rule=Rule.objects.get(name="Utilisation"),
                )
            ]
        )
        at = {
            minute: {row.id: row.severity for row in find_ports(NOW + timedelta(minutes=minute))[0]}
            for minute in (-1, 1, 6)
        }
        assert [at[minute][ports[0].pk] for minute in (-1, 1, 6)] == [0, 4, 0]
        assert at[1][ports[1].pk] == 0


def device_like(number):
    from types import SimpleNamespace

    return SimpleNamespace(pk=number)


def pairs(*rows):
    return Pairs.of_rows(np.array(rows, np.int64))


class TestMemory:
    def test_the_newest_of_each_pair_holds_and_zero_forgets(self):
        memory.keep("interface", pairs((1, 1, 7, 70, 0, 2), (1, 1, 7, 71, 0, 1)))
        memory.keep("interface", pairs((1, 1, 7, 70, 0, 3), (1, 1, 7, 71, 0, 0), (1, 1, 8, 80, 1, 9)))
        memory.keep("device", pairs((2, 1, 7, 7, 0, 1)))
        assert memory.load("interface", [7]).rows().tolist() == [[1, 1, 7, 70, 0, 3]]
        assert len(memory.load("interface", [7, 8])) == 2

    def test_joined_they_say_the_same(self, device, rule):
        other = device.pk + 1
        for n in range(memory.JOIN_FROM):
            memory.keep("interface", pairs((rule.pk, 1, device.pk, 70 + n % 7, 0, n), (rule.pk, 1, other, 80, 0, n)))
        before = memory.load("interface", [device.pk]).rows().tolist()
        assert memory.join() == memory.JOIN_FROM and RuleMemory.objects.count() == 1
        assert sorted(memory.load("interface", [device.pk]).rows().tolist()) == sorted(before)
        assert len(memory.load("interface", [other])) == 0, "the device is gone"
        assert memory.join() == 0
