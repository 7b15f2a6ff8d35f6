"""Rules about groups: what their ports carry together, evaluated as it is stored."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

from lumtar.core.rules import Rule as CoreRule
from lumtar.domain.alarms import memory
from lumtar.domain.alarms.models import Alarm, AlarmChange, Evaluation, Notification, RuleMemory
from lumtar.domain.alarms.rules import as_core
from lumtar.domain.inventory import groups
from lumtar.domain.inventory.groups import GroupSpec
from lumtar.domain.inventory.models import Device, Interface, InterfaceSpeed
from lumtar.domain.inventory.services import add_device
from lumtar.domain.readings import group_totals, partitions
from lumtar.domain.readings.models import Reading
from lumtar.domain.reports import rehearsals
from lumtar.engine import group_rules
from tests.alarms import plan_for, rule

pytestmark = pytest.mark.django_db
END = datetime.now(UTC).replace(second=0, microsecond=0) - timedelta(minutes=2)
START = END - timedelta(minutes=40)
MINUTE_AT_100M = 100_000_000 * 60 // 8
"""Octets of a minute at 100 Mb/s."""


@pytest.fixture
def uplinks():
    """Two gigabit ports of two devices in a group."""
    partitions.ensure((START - timedelta(days=1)).date(), (END + timedelta(days=1)).date())
    ports = []
    for number in (1, 2):
        device = add_device(f"127.0.9.{number}", name=f"hex-wan-{number}", kind="v2c", secret={"community": "word"})
        port = Interface.objects.create(device=device, if_index=1, name="g1", label="Transport A", role="wan")
        InterfaceSpeed.objects.create(
            interface=port, since=START - timedelta(days=1), port_bps=10**9, in_bps=10**9, out_bps=10**9,
            in_source="ifHighSpeed", out_source="ifHighSpeed",
        )  # fmt: skip
        ports.append(port)
    return groups.save(GroupSpec("Way out", 'role is "wan"'), "anna"), ports


def read(port, minute, hundreds, seconds=20):
    """A reading of a minute at so many hundreds of megabits a second inbound, some seconds after it has begun."""
    Reading.objects.create(
        interface=port, at=START + timedelta(minutes=minute, seconds=seconds), in_octets=round(hundreds * MINUTE_AT_100M),
        out_octets=0, in_packets=1000, out_packets=0, in_errors=0, out_errors=0, in_discards=0, out_discards=0,
        elapsed_ms=60_000, oper=1, flags=0,
    )  # fmt: skip


def look_every_minute(first=0, last=40):
    for minute in range(first, last + 1):
        group_rules.look(START + timedelta(minutes=minute, seconds=25))


def said():
    return [(change.severity, change.facts["value"]) for change in AlarmChange.objects.order_by("at", "pk")]


def test_a_total_is_the_sum_of_its_ports_against_the_sum_of_their_speeds(uplinks):
    group, ports = uplinks
    for minute in range(3):
        read(ports[0], minute, 2)
        read(ports[1], minute, 3, seconds=50)
    found = group_totals.of_group(group.pk, START, START + timedelta(minutes=3))
    assert found.step_s == 60
    assert found.totals.in_bps == pytest.approx([5e8] * 3) and found.totals.load == pytest.approx([25.0] * 3)
    assert found.at.tolist() == [START.timestamp() + 60 * minute for minute in (1, 2, 3)]


def test_without_one_of_its_ports_a_total_says_nothing(uplinks):
    group, ports = uplinks
    read(ports[0], 0, 2)
    assert np.isnan(group_totals.of_group(group.pk, START, START + timedelta(minutes=1)).totals.in_bps).all()


def test_steps_are_as_long_as_the_slowest_port_is_polled(uplinks):
    group, ports = uplinks
    Device.objects.filter(pk=ports[1].device_id).update(interval_s=300)
    assert group_totals.of_group(group.pk, START, END).step_s == 300


def test_a_group_raises_and_clears_one_alarm_and_calls(uplinks):
    group, ports = uplinks
    made = rule("total_in", 7e8, 6e8, times=2, plan_id=plan_for("duty@oskelund.example").pk)
    made.save()
    for minute in range(20):
        for port in ports:
            read(port, minute, 4 if 5 <= minute < 12 else 1)
    look_every_minute(0, 20)
    alarm = Alarm.objects.get()
    assert (alarm.resource_kind, alarm.resource_id, alarm.label, alarm.is_cleared) == (
        "group",
        group.pk,
        "group Way out",
        True,
    )
    assert said() == [(4, 8e8), (0, 2e8)]
    assert Notification.objects.exists()


def test_what_was_rehearsed_and_what_happens_are_the_same(uplinks):
    group, ports = uplinks
    made = rule("total_load", 30, 25, times=3, statistic="mean", window_s=180)
    made.save()
    loads = np.random.default_rng(7).uniform(0.5, 5, 40)
    for minute, load in enumerate(loads):
        for port in ports:
            read(port, minute, float(load))
    group_rules.look(START - timedelta(minutes=10))
    # Every other look remembers nothing but what is stored: each look does.
    look_every_minute()
    watched: CoreRule = as_core(made)
    done = rehearsals.run(watched, [group.pk], START - timedelta(minutes=10), END)
    happened = [(change.severity > 0, change.at.timestamp()) for change in AlarmChange.objects.order_by("at", "pk")]
    expected = sorted(
        moment
        for alarm in done.alarms
        for moment in ((alarm.raised_at, True), (alarm.cleared_at, False))
        if moment[0] is not None and moment[0] <= (START + timedelta(minutes=40, seconds=5)).timestamp()
    )
    assert len(expected) >= 3
    assert happened == [(is_raised, at) for at, is_raised in expected]


def test_a_look_that_is_killed_leaves_its_steps_to_the_next(uplinks, monkeypatch):
    _, ports = uplinks
    rule("total_in", 7e8, 6e8, times=3).save()
    for minute in range(4):
        for port in ports:
            read(port, minute, 4)
    look_every_minute(0, 1)
    before = Evaluation.objects.get().until
    with monkeypatch.context() as broken:
        broken.setattr(memory, "keep", lambda *args: 1 / 0)
        broken.setattr(group_rules, "announce", lambda *args: 1 / 0)
        with pytest.raises(ZeroDivisionError):
            look_every_minute(3, 3)
    assert Evaluation.objects.get().until == before and not Alarm.objects.exists()
    look_every_minute(3, 3)
    assert Alarm.objects.get().severity == 4


def test_a_hold_is_remembered_from_look_to_look_and_survives_joining(uplinks):
    _, ports = uplinks
    rule("total_in", 7e8, 6e8, times=5).save()
    for minute in range(8):
        for port in ports:
            read(port, minute, 4)
    look_every_minute(0, 3)
    for _ in range(memory.JOIN_FROM):
        memory.keep("group", memory.load("group", [0]))
    memory.join()
    assert RuleMemory.objects.count() == 1
    look_every_minute(4, 4)
    assert not Alarm.objects.exists()
    look_every_minute(5, 5)
    assert Alarm.objects.get().severity == 4


def test_the_alarm_of_a_group_that_is_deleted_is_cleared(uplinks):
    group, ports = uplinks
    rule("total_in", 7e8, 6e8, times=1).save()
    for minute in range(3):
        for port in ports:
            read(port, minute, 4)
    look_every_minute(0, 2)
    groups.delete(group.pk, "anna")
    group_rules.look(START + timedelta(minutes=3))
    assert (
        Alarm.objects.get().is_cleared
        and AlarmChange.objects.order_by("at", "pk").last().facts["reason"] == "The group was deleted"
    )
