"""From answers to what is to be stored, without a database behind it."""

import numpy as np
import pytest

from lumtar.core.alarms.severity import Severity
from lumtar.core.counters import Snapshot
from lumtar.core.ledger import Status
from lumtar.domain.alarms.models import Rule
from lumtar.domain.inventory.models import Device, Interface
from lumtar.engine.recorder import Answer, Recorder
from lumtar.wire.faults import Fault, FaultKind

START = 1_795_000_000.0
BOOT = START - 86400
SILENT = Fault(FaultKind.NO_ANSWER, "no answer on UDP 161 in 3 tries")


@pytest.fixture
def device():
    return Device(pk=7, name="hex-wan-1", address="127.0.0.1")


@pytest.fixture
def recorder(device):
    rules = [
        Rule(
            pk=1,
            name="Utilisation",
            type="utilisation",
            limit_percent=90,
            clear_percent=80,
            readings=2,
            severity=4,
            mail_to=["duty@oskelund.example"],
        ),
        Rule(pk=2, name="Reachability", type="unreachable", readings=2, severity=5, mail_to=["night@oskelund.example"]),
    ]
    made = Recorder(rules)
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
    assert (raised.severity, raised.mail_to) == (Severity.CRITICAL, ("night@oskelund.example",))
    assert raised.text == "Does not answer: no answer on UDP 161 in 3 tries"
    assert not second.gaps and not second.entries
    back = recorder.take([answer(device, 5)])
    assert back.transitions[0].severity is Severity.CLEARED
    assert back.transitions[0].text == "Answers again after 4 minutes"
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
    assert batch.memory == {(1, 71): 1, (1, 72): 1}
    recorder.renew_rules(
        [
            *recorder.rules,
            recorder.silence,
            Rule(pk=9, name="Another", type="utilisation", limit_percent=50, clear_percent=40, readings=9),
        ]
    )
    batch = recorder.take([answer(device, 2, 95)])
    assert [each.qualifier for each in batch.transitions] == ["1", "1"]
    assert batch.transitions[0].text == "95 % full outbound: 950 Mb/s of 1 Gb/s, for two readings in a row"
    assert batch.memory[9, 71] == 1


def test_what_stood_before_a_restart_is_not_raised_again(recorder, device):
    recorder.stand(1, 0)
    for minute in range(5):
        batch = recorder.take([answer(device, minute, 95)])
        assert 71 not in [each.interface for each in batch.transitions]


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
