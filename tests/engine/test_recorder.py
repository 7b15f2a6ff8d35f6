"""From answers to what is to be stored, without a database behind it."""

import numpy as np
import pytest

from lumtar.core.alarms.severity import Severity
from lumtar.core.counters import Snapshot
from lumtar.core.ledger import Status
from lumtar.core.rules import Pairs
from lumtar.domain.alarms.exceptions import Applies
from lumtar.domain.inventory.models import Device, Interface
from lumtar.engine.batch import ComponentValue
from lumtar.engine.recorder import Answer, Recorder
from lumtar.wire.faults import Fault, FaultKind
from tests.alarms import rule

START = 1_795_000_000.0
BOOT = START - 86400
SILENT = Fault(FaultKind.NO_ANSWER, "no answer on UDP 161 in 3 tries")


RULES = [
    rule(pk=1, times=2, plan_id=11),
    rule("unanswered", 0.5, 0.5, pk=2, times=2, severity=5, plan_id=12),
]


def said(transition):
    return transition.facts.sentence()


@pytest.fixture
def device():
    return Device(pk=7, name="hex-wan-1", address="127.0.0.1")


@pytest.fixture
def recorder(device):
    made = Recorder(RULES)
    made.add(device, [Interface(pk=70 + n, device=device, if_index=n, label=f"Transport {n}") for n in (1, 2)])
    return made


def answer(device, minute, percent=10.0, oper=1, boot=BOOT, mbps=1000):
    """An answer a minute; the first port's counter has run at so many per cent since the start."""
    at = START + 60 * minute
    counters = np.zeros((2, 12), np.uint64)
    counters[:, 1] = round(percent / 100 * mbps * 1e6 / 8 * (at - BOOT))
    ones = np.ones(2, bool)
    uptime = int((at - boot) * 100)
    snapshot = Snapshot(np.full(2, at), np.full(2, uptime), np.zeros(2, np.int64), counters, ones, ones)
    status = Status(np.ones(2, np.int16), np.array([oper, 1], np.int16), np.full(2, mbps), np.full(2, mbps * 10**6))
    return Answer(device, at, uptime, np.array([0, 1]), snapshot, status, at + 60, 1.0, 9.0)


def test_an_answer_becomes_a_batch(recorder, device):
    recorder.take([answer(device, 0)])
    batch = recorder.take([answer(device, 1)])
    assert list(batch.interfaces) == [71, 72]
    assert batch.rows == 2
    assert batch.seen.out_percent[0] == pytest.approx(10)
    assert [news.device for news in batch.devices] == [7]
    assert not (batch.entries or batch.transitions or batch.gaps or batch.speeds)


def test_the_state_in_a_batch_does_not_change_afterwards(recorder, device):
    first = recorder.take([answer(device, 0)])
    before = first.state.counters.copy()
    recorder.take([answer(device, 1)])
    assert np.array_equal(first.state.counters, before)


def test_nothing_answered_is_nothing(recorder):
    assert recorder.take([]).rows == 0


def test_states_speeds_and_restarts_are_news(recorder, device):
    first = recorder.take([answer(device, 0)])
    assert len(first.speeds) == 2 and not first.entries
    down = recorder.take([answer(device, 1, oper=2)])
    assert [entry.text for entry in down.entries] == ["hex-wan-1 Transport 1 up → down"]
    slower = recorder.take([answer(device, 2, oper=2, mbps=100)])
    assert next(entry.text for entry in slower.entries) == "hex-wan-1 Transport 1 now 100 Mb/s, was 1 Gb/s"
    again = recorder.take([answer(device, 3, oper=2, mbps=100, boot=START + 150)])
    assert [entry.text for entry in again.entries] == ["hex-wan-1 restarted, was up 1 day"]
    assert recorder.take([answer(device, 4, oper=2, mbps=100, boot=START + 150)]).entries == []


def test_silence_is_an_alarm_at_the_second_poll_and_a_gap_from_the_last_answer(recorder, device):
    recorder.take([answer(device, 0)])
    first = recorder.silent(device, START + 60, SILENT, START + 70)
    assert not first.transitions
    assert (first.gaps[0].start, first.gaps[0].end, first.gaps[0].words) == (START, None, SILENT.words)
    second = recorder.silent(device, START + 70, SILENT, START + 120)
    raised = second.transitions[0]
    assert (raised.severity, raised.plan) == (Severity.CRITICAL, 12)
    assert said(raised) == "Does not answer: no answer on UDP 161 in 3 tries"
    assert not second.gaps and not second.entries
    back = recorder.take([answer(device, 5)])
    assert back.transitions[0].severity is Severity.CLEARED
    assert said(back.transitions[0]) == "Answers again after 4 minutes"
    assert (back.gaps[0].start, back.gaps[0].end) == (START, START + 300)


def test_a_rule_that_is_switched_off_raises_nothing(recorder, device):
    recorder.renew_rules([])
    for minute in range(4):
        assert not recorder.take([answer(device, minute, 95)]).transitions
    for minute in range(4, 8):
        assert not recorder.silent(device, START + 60 * minute, SILENT, 0).transitions


def test_changed_rules_keep_what_they_remember(recorder, device):
    recorder.take([answer(device, 0, 95)])
    batch = recorder.take([answer(device, 1, 95)])
    assert remembered(batch) == {(1, 71): 1, (1, 72): 1}
    recorder.renew_rules([*RULES, rule(pk=9, limit=50, clear=40, times=9)])
    batch = recorder.take([answer(device, 2, 95)])
    assert [each.qualifier for each in batch.transitions] == ["1", "1"]
    assert said(batch.transitions[0]) == "95 % full outbound: 950 Mb/s of 1 Gb/s, for two readings in a row"
    assert remembered(batch) == {(1, 71): 2, (1, 72): 2, (9, 71): 1, (9, 72): 1}
    batch = recorder.take([answer(device, 3, 95)])
    assert remembered(batch) == {(9, 71): 2, (9, 72): 2}, "only what changed"


def test_a_rule_changed_by_other_means_than_a_person_is_taken_over(recorder, device):
    assert not recorder.take([answer(device, 0, 60)]).transitions
    recorder.renew_rules([rule(pk=1, limit=50, clear=40, times=1)])
    assert [each.qualifier for each in recorder.take([answer(device, 1, 60)]).transitions] == ["1", "1"]


def test_what_stood_before_a_restart_is_not_raised_again(recorder, device):
    recorder.watch.bring_back("interface", Pairs.joined([]), [(1, 71, 4)], {}, {71: 7, 72: 7})
    found = [each.resource for minute in range(5) for each in recorder.take([answer(device, minute, 95)]).transitions]
    assert found == [72]


def remembered(batch):
    pairs = batch.memory["interface"]
    return dict(zip(zip(pairs.rule.tolist(), pairs.subject.tolist(), strict=True), pairs.held.tolist(), strict=True))


def test_a_component_can_be_watched(recorder, device):
    recorder.renew_rules([*RULES, rule("processor", pk=5, times=1), rule("faulty", 0.5, 0.5, pk=6, times=1)])
    polled = answer(device, 0)
    polled.components = [
        ComponentValue(31, "processor", "%", START, 95.0),
        ComponentValue(32, "fan", "state", START, 2.0),
        ComponentValue(33, "fan", "state", START, 3.0),
    ]
    batch = recorder.take([polled])
    assert [(each.kind, each.resource, each.device, said(each)) for each in batch.transitions] == [
        ("component", 31, 7, "Processor load 95 %, above 90 %"),
        ("component", 32, 7, "State: out of order"),
    ]
    assert [part[1] for part in batch.components] == [31, 32, 33]


def test_a_rule_about_some_ports_looks_at_no_others(recorder, device):
    narrow = rule(pk=1, times=1, scope='label is "Transport 2"')
    recorder.renew_rules([narrow], {1: Applies(frozenset({72}))})
    recorder.take([answer(device, 0, 95)])
    batch = recorder.take([answer(device, 1, 95)])
    assert [each.resource for each in batch.transitions] == [72]
    recorder.renew_rules([narrow], {1: Applies(frozenset({71}))})
    batch = recorder.take([answer(device, 2, 95)])
    assert [(each.resource, each.severity, said(each)) for each in batch.transitions] == [
        (71, Severity.MAJOR, "95 % full outbound: 950 Mb/s of 1 Gb/s"),
        (72, Severity.CLEARED, "The rule does not apply here any more"),
    ]


def test_where_nothing_was_counted_a_rule_sees_nothing_rather_than_zero(recorder, device):
    recorder.renew_rules([rule("errors", 5, 1, pk=3, times=3)])
    told = [answer(device, minute) for minute in range(4)]
    for minute, each in enumerate(told):
        each.snapshot.counters[:, 8] = 100 * minute
    for each in told[:3]:
        assert not recorder.take([each]).transitions
    # A restart between two readings with errors: it neither counts nor breaks the row.
    again = answer(device, 3, boot=START + 170)
    again.snapshot.counters[:, 8] = 0
    assert not recorder.take([again]).transitions
    after = answer(device, 4, boot=START + 170)
    after.snapshot.counters[:, 8] = 100
    batch = recorder.take([after])
    assert [said(each) for each in batch.transitions] == [
        "Errors and discards 100, above 5, for three readings in a row"
    ] * 2


def test_devices_that_come_and_go_leave_no_slots_behind(recorder, device):
    recorder.take([answer(device, 0, 95)])
    room = len(recorder.ledger.state.at)
    for number in range(100):
        other = Device(pk=100 + number, name="sal-wan-1", address="127.0.0.2")
        slots = recorder.add(other, [Interface(pk=900 + number, device=other, if_index=1, label="Transport A")])
        assert list(slots) == [2]
        recorder.silent(other, START, SILENT, 0)
        recorder.drop(other.pk)
    assert len(recorder.ledger.state.at) == max(room, 4)
    assert recorder.watch.kinds["device"].slots.size == 2
    assert recorder.watch.kinds["interface"].slot_of == {71: 0, 72: 1}
    batch = recorder.take([answer(device, 1, 95)])
    assert list(batch.interfaces) == [71, 72] and batch.rows == 2


def test_a_stated_speed_that_is_exceeded_is_not_believed(recorder, device):
    recorder.take([answer(device, 0, 95)])
    fast = answer(device, 1, 95)
    fast.status.high_speed_mbps[:], fast.status.speed_bps[:] = 10, 10**7
    batch = recorder.take([fast])
    assert [(change.port_bps, change.is_credible) for change in batch.speeds] == [(10**7, False)] * 2
    assert "states 10 Mb/s but carries more" in batch.entries[0].text
    assert not batch.transitions and np.isnan(batch.seen.out_percent).all()


def test_two_devices_in_one_batch_keep_apart(recorder, device):
    other = Device(pk=8, name="sal-wan-1", address="127.0.0.2")
    slots = recorder.add(other, [Interface(pk=81, device=other, if_index=1, label="Transport A")])
    second = answer(other, 0, 95)
    second.slots = slots
    for name in Snapshot.__dataclass_fields__:
        object.__setattr__(second.snapshot, name, getattr(second.snapshot, name)[:1])
    for name in Status.__dataclass_fields__:
        object.__setattr__(second.status, name, getattr(second.status, name)[:1])
    batch = recorder.take([answer(device, 0), second])
    assert list(batch.interfaces) == [71, 72, 81]
    assert {news.device for news in batch.devices} == {7, 8}


def raised(batches):
    return [said(transition) for batch in batches for transition in batch.transitions]


def watching(device, *rules):
    made = Recorder(rules)
    made.add(device, [Interface(pk=70 + n, device=device, if_index=n, label=f"Transport {n}") for n in (1, 2)])
    return made


def test_a_restart_is_an_alarm_for_ten_minutes(device):
    recorder = watching(device, rule("uptime", 600, 600, pk=3, times=1, direction="below"))
    batches = [recorder.take([answer(device, 0)])]
    boot = START + 30
    batches += [recorder.take([answer(device, minute, boot=boot)]) for minute in (1, 5, 11)]
    assert raised(batches) == ["Restarted 30 seconds ago", "Up for 10 minutes since its restart"]


def test_neither_clocks_that_drift_nor_a_counter_that_begins_anew_are_a_restart(recorder, device):
    batches = [recorder.take([answer(device, minute, boot=BOOT + 20 * minute)]) for minute in range(5)]
    wrapped = answer(device, 5, boot=BOOT + 100)
    # sysUpTime is 32 bits of hundredths.
    wrapped.uptime -= 2**32
    recorder.reach[device.pk].started_at -= 2**32 / 100
    batches.append(recorder.take([wrapped]))
    assert not [entry for batch in batches for entry in batch.entries]


def test_a_link_that_negotiates_less_and_half_duplex(device):
    recorder = watching(
        device,
        rule("speed_kept", 99, 99, pk=3, times=1, direction="below"),
        rule("half_duplex", 0.5, 0.5, pk=4, times=1),
    )
    slower = answer(device, 1, percent=100, mbps=100)
    slower.duplex = {0: 2, 1: 3}
    again = answer(device, 2)
    again.duplex = {0: 3}
    batches = [recorder.take([each]) for each in (answer(device, 0), slower, again)]
    assert sorted(raised(batches)) == sorted(
        [
            *["Runs at 100 Mb/s, had 1 Gb/s"] * 2,
            "Half duplex",
            *["Runs at 1 Gb/s, as fast as in the last 30 days"] * 2,
            "Full duplex",
        ]
    )
    assert batches[1].duplex == {71: (START + 60, 2), 72: (START + 60, 3)}


def test_interfaces_that_are_gone_are_named_in_one_alarm(device):
    recorder = watching(device, rule("gone", 0.5, 0.5, pk=3, times=1))
    without = answer(device, 1)
    without.gone = ("Uplink 1", "Uplink 2")
    batches = [recorder.take([each]) for each in (answer(device, 0), without, answer(device, 2))]
    assert raised(batches) == [
        "Two interfaces not listed any more: Uplink 1, Uplink 2",
        "Listed again, or gone for more than a day",
    ]
