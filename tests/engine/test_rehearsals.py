"""What was rehearsed and what happens are the same: both on the same readings."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

from lumtar.core.refusal import Refusal
from lumtar.core.rules import Raised
from lumtar.domain.alarms import rules
from lumtar.domain.inventory.models import Component, Interface, InterfaceSpeed
from lumtar.domain.inventory.services import add_device
from lumtar.domain.readings import partitions, rollups
from lumtar.domain.reports import frames, rehearsals
from lumtar.engine import store
from lumtar.engine.batch import ComponentValue
from lumtar.engine.recorder import Recorder
from lumtar.engine.watching import Watch
from lumtar.wire.faults import Fault, FaultKind
from tests.alarms import rule
from tests.engine.answers import answer

pytestmark = pytest.mark.django_db
MINUTES = 120
RULES = [
    rule(pk=900_001, name="each value", limit=70, clear=60, times=2),
    rule(pk=900_002, name="mean", limit=60, clear=50, times=1, statistic="mean", window_s=600),
    rule(pk=900_003, name="for a time", limit=50, clear=40, times=1, hold_s=300),
    rule("processor", 80, 70, pk=900_004, name="processor", times=1, statistic="maximum", window_s=300),
    rule("unanswered", 0.5, 0.5, pk=900_005, name="silent", times=2),
    rule("down", 50, 50, pk=900_006, name="down", times=1),
    rule("error_share", 100, 50, pk=900_007, name="errors", times=1, statistic="mean", window_s=600),
]


@pytest.fixture
def world():
    """Two hours of a device, live: the recorder with its transitions, and all of it stored."""
    device = add_device("127.0.9.1", name="hex-wan-1", kind="v2c", secret={"community": "word"})
    device.interval_s = 60
    device.save()
    ports = Interface.objects.bulk_create(
        Interface(device=device, if_index=n, name=f"g{n}", label=f"g{n}", role="wan") for n in (1, 2)
    )
    component = Component.objects.create(device=device, kind="processor", index="1", name="Processor 1", unit="%")
    now = datetime.now(UTC).replace(microsecond=0)
    partitions.ensure((now - timedelta(days=1)).date(), (now + timedelta(days=1)).date())
    for each in RULES:
        each.save(force_insert=True)
    recorder = Recorder(RULES)
    slots, dice = recorder.add(device, ports), np.random.default_rng(5)
    begin = (now - timedelta(minutes=MINUTES)).timestamp()
    loads = np.clip(45 + 25 * np.sin(np.arange(MINUTES)[:, None] / (9, 14)) + dice.normal(0, 12, (MINUTES, 2)), 0, 100)
    counters, transitions = np.zeros((2, 12), np.uint64), []
    for minute in range(MINUTES):
        at = begin + 60 * minute + float(dice.integers(0, 3))
        counters[:, 0] += (loads[minute] / 100 * 1e8 / 8 * 60).astype(np.uint64)
        counters[:, 2] += np.uint64(100_000)
        counters[:, 8] += np.array([3 * (minute % 30), 0], np.uint64)
        if 50 <= minute < 56:
            silent = Fault(FaultKind.NO_ANSWER, "no answer")
            batch = recorder.silent(device, at, silent, at + 60)
        else:
            polled = answer(device, slots, at)
            polled.uptime = int(at * 100) % 2**32
            polled.snapshot.counters[:] = counters
            polled.snapshot.uptime[:] = polled.uptime
            polled.status.oper[:] = (1, 2 if 80 <= minute < 90 else 1)
            polled.components = [ComponentValue(component.pk, "processor", "%", at, float(loads[minute, 0]))]
            batch = recorder.take([polled])
        transitions += batch.transitions
        store.write(batch)
    return recorder, transitions, now


def raised_live(transitions, key):
    """The alarms of a rule as they were raised: subject, second, worst severity, second of clearing."""
    active, ended = {}, []
    for each in (each for each in transitions if each.rule == key):
        second = round(each.at.timestamp())
        if not each.severity:
            ended.append((*active.pop(each.resource), second))
        else:
            active.setdefault(each.resource, (each.resource, second))
    return sorted([*ended, *((*each, None) for each in active.values())], key=lambda alarm: (alarm[1], alarm[0]))


def seconds(alarm: Raised):
    return alarm.subject, round(alarm.raised_at), None if alarm.cleared_at is None else round(alarm.cleared_at)


@pytest.mark.parametrize("each", [each for each in RULES if each.measure != "unanswered"], ids=lambda each: each.name)
def test_a_rehearsal_raises_and_clears_what_the_collector_did(world, each):
    _, transitions, now = world
    watched = rules.as_core(each)
    subjects = rehearsals.subjects_of(watched.subject)
    done = rehearsals.run(watched, subjects, now - timedelta(minutes=MINUTES + 5), now + timedelta(minutes=1))
    assert [seconds(alarm) for alarm in done.alarms] == raised_live(transitions, each.pk)
    assert done.step_s == 0 and done.alarms, "it is worth comparing"


def test_a_silence_is_rehearsed_from_its_gap(world):
    _, transitions, now = world
    watched = rules.as_core(RULES[4])
    subjects = rehearsals.subjects_of("device")
    done = rehearsals.run(watched, subjects, now - timedelta(minutes=MINUTES + 5), now + timedelta(minutes=1))
    (live,) = raised_live(transitions, 900_005)
    (alarm,) = done.alarms
    # When the polls in a gap were is not kept, only that none was answered.
    assert abs(alarm.raised_at - live[1]) <= 5 and abs(alarm.cleared_at - live[2]) <= 5


def test_after_a_restart_a_window_is_what_it_was(world):
    recorder, _, now = world
    again = Watch(RULES)
    for kind in ("interface", "component"):
        subjects = recorder.watch.kinds[kind]
        owners = dict.fromkeys(subjects.slot_of, int(subjects.memory.owner.max()))
        again.bring_back(kind, recorder.watch.kinds[kind].memory.take_changes(), [], {}, owners)
        again.recall(kind, list(owners), now.timestamp())
        for measure, ring in subjects.memory.rings.items():
            renewed = again.kinds[kind].memory.rings[measure]
            for number, slot in subjects.slot_of.items():
                here = np.array([slot]), np.array([again.kinds[kind].slot_of[number]])
                before = ring.window(here[0], 300, np.array([60.0]))
                after = renewed.window(here[1], 300, np.array([60.0]))
                known = np.isfinite(before.values[:, 0])
                assert known.any()
                assert after.values[: len(known)][known, 0] == pytest.approx(before.values[known, 0], rel=1e-6)


def test_what_would_take_minutes_is_refused_with_what_to_do():
    now = datetime.now(UTC)
    with pytest.raises(
        Refusal, match="100,000 subjects over 7 days; narrow the rule by a condition, or choose one day"
    ):
        rehearsals.run(rules.as_core(RULES[0]), range(100_000), now - timedelta(days=7), now)
    with pytest.raises(Refusal, match="at most 31 days"):
        rehearsals.run(rules.as_core(RULES[0]), [1], now - timedelta(days=32), now)


def test_long_times_go_by_means_of_five_minutes(world):
    _, _, now = world
    history = frames.of_measure(
        "load", list(Interface.objects.values_list("pk", flat=True)), now - timedelta(days=7), now
    )
    assert history.step_s == 300 and np.isfinite(history.frame.values["load"]).sum() > 10


@pytest.mark.django_db(transaction=True)
def test_part_by_part_it_is_the_same_as_at_once(world, monkeypatch):
    """The next part is read while one is gone through, by a connection of its own."""
    ports = list(Interface.objects.values_list("pk", flat=True))
    watched, end = rules.as_core(RULES[0]), datetime.now(UTC)
    start = end - timedelta(hours=3)
    whole = rehearsals.run(watched, ports, start, end)
    assert len(whole.alarms) > 2
    monkeypatch.setattr("lumtar.domain.reports.rehearsals.AT_ONCE", 1)
    *steps, last = rehearsals.steps(watched, ports, start, end)
    assert [each.done for each in steps] == [1, 2]
    assert (last.alarms, last.figures) == (whole.alarms, whole.figures)


@pytest.mark.parametrize("measure", ["load", "in", "out", "peak"])
@pytest.mark.parametrize("statistic", rehearsals.WITHIN_VALUES)
def test_over_a_long_time_only_those_that_can_have_exceeded_are_read_and_nothing_is_missed(
    world, monkeypatch, measure, statistic
):
    *_, now = world
    rollups.roll_all(now - timedelta(hours=4), now + timedelta(hours=1))
    ports = list(Interface.objects.values_list("pk", flat=True))
    # One that was sold more bandwidth in the middle of an hour.
    InterfaceSpeed.objects.create(
        interface_id=ports[0], since=now - timedelta(minutes=40), port_bps=10**8, in_bps=2 * 10**8, out_bps=2 * 10**8,
        in_source="override", out_source="override",
    )  # fmt: skip
    window, start = (0 if statistic == "value" else 600), now - timedelta(days=2)
    read, numbers = frames.of_measure, []

    def noted(name, subjects, *span):
        numbers.append(len(subjects))
        return read(name, subjects, *span)

    for limit in (5, 40, 60, 80, 200):
        scale = 1.0 if measure in ("load", "peak") else 1e6
        watched = rules.as_core(
            rule(measure, limit * scale, limit * scale / 2, times=1, statistic=statistic, window_s=window)
        )
        with monkeypatch.context() as looking:
            looking.setattr(frames, "of_measure", noted)
            quick = rehearsals.run(watched, ports, start, now)
        with monkeypatch.context() as whole:
            whole.setattr(frames, "reaching", lambda name, limit, subjects, *span: list(subjects))
            assert rehearsals.run(watched, ports, start, now).alarms == quick.alarms
    assert numbers[-1] == 0, "nothing reaches twice the speed"
