"""Exceptions of one subject, and conditions over devices and components."""

from datetime import UTC, datetime

import numpy as np
import pytest

from lumtar.core.alarms.severity import Severity
from lumtar.core.measures.devices import Polls
from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import exceptions, memory, rules
from lumtar.domain.alarms.models import Rule, RuleException
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory import asking, services
from lumtar.domain.inventory.models import Component, Device
from lumtar.engine.batch import Batch
from lumtar.engine.watching import Watch

pytestmark = pytest.mark.django_db
AT = datetime(2026, 11, 23, 12, 0, tzinfo=UTC).timestamp()


@pytest.fixture
def devices(db):
    made = [
        services.add_device(
            f"10.20.{n}.1", name=f"hex-acc-{n}", site=f"Site {n}", kind="v2c", secret={"community": "word"}
        )
        for n in (1, 2, 3)
    ]
    made.append(
        services.add_device("depot.oskelund.example", name="dep-core", kind="v2c", secret={"community": "word"})
    )
    return made


def slow(limit=100, **more):
    level = {"severity": 3, "limit": limit, "clear": limit}
    return {"name": "Slow", "measure": "round_trip", "levels": [level], **more}


def look(watch, devices, rtt, minute=0):
    """One poll of each device; the names of those whose alarm was raised or cleared."""
    unknown = np.full(len(devices), np.nan)
    polls = Polls(np.zeros(len(devices)), np.array(rtt, float), unknown, unknown, ({},) * len(devices))
    numbers = np.array([device.pk for device in devices])
    batch = Batch()
    at = np.full(len(devices), AT + 60 * minute)
    watch.look(batch, "device", polls, at, np.full(len(devices), 60.0), numbers=numbers, owners=numbers)
    apply(batch.transitions)
    names = {device.pk: device.name for device in devices}
    return {names[each.resource]: each.severity for each in batch.transitions}, batch


def watching():
    watch = Watch()
    in_force = rules.in_force()
    watch.renew(in_force, exceptions.narrowed(in_force))
    return watch


def test_a_rule_about_devices_is_narrowed_by_a_condition(devices):
    Rule.objects.all().delete()
    rules.create(slow(scope='address in 10.20.0.0/16 and not (site is "Site 2")'), "anna")
    raised, _ = look(watching(), devices, [500] * 4)
    assert raised == {"hex-acc-1": 3, "hex-acc-3": 3}


def test_conditions_over_components_and_addresses(devices):
    Component.objects.create(device=devices[0], kind="processor", index="1", name="CPU 1", unit="%")
    Component.objects.create(device=devices[1], kind="memory", index="1", name="RAM", unit="%")
    of = Component.objects.in_bulk(asking.subjects_for("component", 'part is processor or component like "ra*"'))
    assert {each.name for each in of.values()} == {"CPU 1", "RAM"}
    assert asking.preview("component", "address is 10.20.2.1") == (1, [("hex-acc-2", "RAM")])
    assert asking.subjects_for("device", "address in (2001:db8::/32, 10.20.3.0/24)") == {devices[2].pk}
    assert asking.subjects_for("device", "not (address in 0.0.0.0/0)") == {devices[3].pk}, "a name lies in no prefix"
    with pytest.raises(Refusal, match="role"):
        rules.create(slow(scope="role is wan"), "anna")


def test_one_subject_has_other_levels_and_another_is_exempt(devices):
    Rule.objects.all().delete()
    rule = rules.create(slow(), "anna")
    milder = [{"severity": 4, "limit": 400, "clear": 300}]
    exceptions.except_from(rule.pk, devices[1].pk, milder, "over satellite", "anna")
    exceptions.except_from(rule.pk, devices[2].pk, [], "", "anna")
    watch = watching()
    assert look(watch, devices, [200, 200, 200, 50])[0] == {"hex-acc-1": 3}
    assert look(watch, devices, [200, 500, 900, 50], 1)[0] == {"hex-acc-2": 4}
    # After a restart what is active is known of both.
    again = watching()
    active = [(rule.pk, devices[0].pk, 3), (rule.pk, devices[1].pk, 4)]
    owners = {device.pk: device.pk for device in devices}
    again.bring_back("device", memory.load("device", list(owners)), active, {}, owners)
    assert look(again, devices, [50, 350, 900, 50], 2)[0] == {"hex-acc-1": 0}, "not below 300 yet"
    assert look(again, devices, [50, 50, 50, 50], 3)[0] == {"hex-acc-2": 0}
    exceptions.end_exception(rule.pk, devices[2].pk, "anna")
    assert look(watching(), devices, [50, 50, 500, 50], 4)[0] == {"hex-acc-3": 3}


def test_an_exception_that_is_made_clears_what_the_rule_raised(devices):
    Rule.objects.all().delete()
    rule = rules.create(slow(), "anna")
    watch = watching()
    look(watch, devices, [500, 50, 50, 50])
    exceptions.except_from(rule.pk, devices[0].pk, [], "noise", "anna")
    in_force = rules.in_force()
    watch.renew(in_force, exceptions.narrowed(in_force))
    assert look(watch, devices, [500, 50, 50, 50], 1)[0] == {"hex-acc-1": 0}


def test_what_makes_no_sense_is_refused_and_another_measure_ends_exceptions(devices):
    rule = rules.create(slow(), "anna")
    with pytest.raises(Refusal, match="There is no device"):
        exceptions.except_from(rule.pk, 10**9, [], "", "anna")
    with pytest.raises(Refusal, match="clearing limit"):
        exceptions.except_from(rule.pk, devices[0].pk, [{"severity": 3, "limit": 1, "clear": 2}], "", "anna")
    exceptions.except_from(rule.pk, devices[0].pk, [], "", "anna")
    rules.change(rule.pk, {"measure": "unanswered", "levels": [{"severity": 5, "limit": 0.5, "clear": 0.5}]}, "anna")
    assert not RuleException.objects.exists()


def test_own_words_of_a_rule_and_what_they_cannot_use(devices):
    Rule.objects.all().delete()
    for wrong in ("{{ community }}", "{{ value", "{% for a in value %}{% endfor %}"):
        with pytest.raises(Refusal):
            rules.create(slow(raise_text=wrong), "anna")
    rules.create(slow(raise_text="Slow: {{ value }} over {{ limit }}", clear_text="Quick again ({{ value }})"), "anna")
    watch = watching()
    _, raised = look(watch, devices, [500, 50, 50, 50])
    _, cleared = look(watch, devices, [20, 50, 50, 50], 1)
    said = [each.facts.sentence() for each in (*raised.transitions, *cleared.transitions)]
    assert said == ["Slow: 500 ms over 100 ms", "Quick again (20 ms)"]


def test_the_rules_that_apply_to_a_device_are_those_of_its_components_too(devices):
    Rule.objects.all().delete()
    Component.objects.create(device=devices[0], kind="processor", index="1", name="CPU 1", unit="%")
    level = [{"severity": int(Severity.MAJOR), "limit": 90, "clear": 80}]
    rules.create(slow(scope='device is "hex-acc-2"'), "anna")
    rules.create({"name": "Busy", "measure": "processor", "levels": level}, "anna")
    assert [rule.name for rule in rules.applying(device=devices[0].pk)] == ["Busy"]
    assert [rule.name for rule in rules.applying(device=devices[1].pk)] == ["Slow"]
    assert Device.objects.count() == 4
