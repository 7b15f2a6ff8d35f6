"""Probing: sessions against a network that is written down, and the prober against reflectors on this machine."""

import asyncio
import threading
import time
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from asgiref.sync import sync_to_async

from bench.ports import free_port
from lab.builder import build
from lab.device import Device as StandIn
from lab.faults import FaultRefused, carry_out
from lab.paths import PORT, Reflectors, way_to
from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import rules
from lumtar.domain.alarms.models import Alarm
from lumtar.domain.paths import levels, services, store
from lumtar.domain.paths.models import Hour, Minute, Path
from lumtar.domain.reports import path_frames, rehearsals
from lumtar.engine import minute_rules
from lumtar.engine.prober.clockwork import Clockwork
from lumtar.engine.prober.prober import Prober
from lumtar.engine.prober.reflector import Reflector
from lumtar.engine.prober.sessions import Sessions, Spec
from lumtar.wire import stamp
from lumtar.wire.stamped import Arrived, StampedSocket

START = 1_795_440_000
MS = 1_000_000
THERE = ("192.0.2.1", 862)


class Written:
    """A network whose answers are written down; the clock stands still but for what the test says."""

    def __init__(self):
        self.now_ns = START * 1000 * MS
        self.sent, self.left, self.coming = [], [], []
        self.broken = None

    def clock(self):
        return self.now_ns

    def send(self, data, to, traffic_class=0):
        if self.broken:
            raise self.broken
        self.sent.append((data, to, traffic_class))
        self.left.append((len(self.sent) - 1, self.now_ns + 30_000))
        return len(self.sent) - 1

    def departures(self):
        left, self.left = self.left, []
        return iter(left)

    def arrivals(self):
        coming, self.coming = self.coming, []
        return iter(coming)

    def answer(self, number, after_ms, sender=THERE, clock_s=0.0, stay_ms=1.0):
        """The answer to a probe, so long after it left; the reflector's clock may be off."""
        left = self.now_ns + 30_000
        received = left + round((after_ms - stay_ms) / 2 * MS + clock_s * 1e9)
        data = stamp.reflected(self.sent[number][0], received, received + round(stay_ms * MS), 1, 64)
        self.coming.append(Arrived(data, sender, left + round(after_ms * MS), 64))


@pytest.fixture
def network():
    return Written()


@pytest.fixture
def sessions(network):
    made = Sessions(network, network.clock)
    made.renew([Spec(5, *THERE, 46 << 2, 120, 1.0)], START)
    return made


def send(sessions, network, count=1):
    for _ in range(count):
        sessions.send(network.now_ns / 1e9)
        sessions.take()
        network.now_ns += 1000 * MS


def of_minute(sessions, network):
    network.now_ns += 120 * 1000 * MS
    path, at, told = sessions.closed(network.now_ns / 1e9)[0]
    assert (path, at) == (5, START)
    return told


def test_round_trips_do_not_hold_what_the_reflector_took(sessions, network):
    sessions.send(START)
    assert network.sent[0][1:] == (THERE, 46 << 2) and len(network.sent[0][0]) == 120
    network.answer(0, 21.0, stay_ms=1.0, clock_s=0.004)
    sessions.take()
    told = of_minute(sessions, network)
    assert (told.sent, told.lost) == (1, 0)
    assert told.mean == pytest.approx(20_000, abs=1)
    assert (told.out, told.back) == (pytest.approx(14_000, abs=1), pytest.approx(6_000, abs=1)), "as the clocks tell it"


def test_answers_that_are_late_twice_from_elsewhere_or_nonsense(sessions, network):
    for number in range(5):
        sessions.send(network.now_ns / 1e9)
        if number == 0:
            network.answer(0, 20.0)
            network.answer(0, 25.0)
        if number == 1:
            network.answer(1, 3_200.0)
        if number == 2:
            network.answer(2, 20.0, sender=("192.0.2.9", 862))
        if number == 3:
            network.coming.append(Arrived(b"nonsense", THERE, network.now_ns, 64))
        if number == 4:
            network.answer(4, 20.0, clock_s=-30 * 365 * 86400.0)
        sessions.take()
        network.now_ns += 1000 * MS
    told = of_minute(sessions, network)
    assert (told.sent, told.lost, told.duplicates, told.longest_burst) == (5, 3, 1, 3)
    assert told.mean == pytest.approx(19_000, abs=1)
    assert sessions.strange == 2


def without_session(probe):
    """A probe as a reflector repeats it that knows no sessions: zeros in that place."""
    return probe[:14] + bytes(2) + probe[16:]


def test_paths_to_one_reflector_that_knows_no_sessions_are_told_apart(sessions, network):
    sessions.renew([Spec(5, *THERE, 46 << 2, 120, 1.0), Spec(6, *THERE, 0, 120, 1.0)], START)
    for _ in range(2):
        sessions.send(network.now_ns / 1e9)
        network.now_ns += 700 * MS
    assert len(network.sent) == 2 and {traffic_class for _, _, traffic_class in network.sent} == {0, 46 << 2}
    for number, after_ms in ((1, 30), (0, 20)):
        data = stamp.reflected(without_session(network.sent[number][0]), 5, 5, 1, 64)
        network.coming.append(Arrived(data, THERE, network.left[number][1] + after_ms * MS, 64))
    sessions.take()
    found = {path: each for path, _, each in sessions.closed(START + 200)}
    assert {path: (each.lost, round(each.mean)) for path, each in found.items()} == {5: (0, 20_000), 6: (0, 30_000)}


def test_an_answer_to_a_probe_of_before_a_change_is_nobodys(sessions, network):
    sessions.send(START)
    sessions.renew([Spec(5, *THERE, 0, 120, 1.0)], START)
    network.now_ns += 1000 * MS
    sessions.send(network.now_ns / 1e9)
    network.answer(0, 20.0)
    sessions.take()
    assert sessions.strange == 1, "though session and number are the same"


def test_a_path_that_is_changed_is_not_probed_twice_as_often(sessions, network):
    for dscp in range(1, 6):
        sessions.renew([Spec(5, *THERE, dscp << 2, 120, 1.0)], network.now_ns / 1e9)
    before = len(network.sent)
    send(sessions, network, 20)
    assert 19 <= len(network.sent) - before <= 20


def test_thousands_of_intervals_close_in_turns():
    network = Written()
    sessions = Sessions(network, network.clock)
    sessions.renew([Spec(path, *THERE, every_s=1.0) for path in range(1, 101)], START)
    sessions.send(START + 1)
    found = []
    for turns in range(1, 11):
        found += sessions.closed(START + 200, most=10)
        assert len(found) == 10 * turns
    assert {path for path, _, _ in found} == set(range(1, 101)) and sessions.closed(START + 200) == []


def test_a_machine_without_one_version_measures_the_other(monkeypatch):
    monkeypatch.setattr(
        "lumtar.engine.prober.clockwork._host_for", lambda address: "192.0.2.99" if ":" in address else "127.0.0.1"
    )
    clockwork = Clockwork(None)
    clockwork.want([Spec(1, "2001:db8::1", 862), Spec(2, "127.0.0.1", free_port(), every_s=0.05)])
    clockwork.start()
    try:
        until = time.time() + 10
        while time.time() < until and not clockwork.problems:
            time.sleep(0.05)
        assert list(clockwork.problems) == [1] and "assign" in clockwork.problems[1] and clockwork.is_alive()
    finally:
        clockwork.end()
    assert clockwork.problem == ""


def test_a_reflector_that_jumps_or_knows_no_sessions(sessions, network):
    sessions.send(START)
    data = stamp.reflected(without_session(network.sent[0][0]), 5, 5, 1, 64)
    network.coming.append(Arrived(data, THERE, network.now_ns + 20 * MS, 64))
    network.now_ns += 1000 * MS
    sessions.send(network.now_ns / 1e9)
    network.answer(1, 20.0, stay_ms=-4000.0)
    sessions.take()
    told = of_minute(sessions, network)
    assert told.lost == 0 and told.longest == pytest.approx(20_000, abs=31), "a stay that cannot be is none"


def test_what_cannot_be_sent_is_lost_and_told(sessions, network):
    network.broken = OSError(101, "Network is unreachable")
    sessions.send(START)
    assert sessions.problems() == [(5, "Network is unreachable")]
    network.broken = None
    network.now_ns += 1000 * MS
    sessions.send(network.now_ns / 1e9)
    assert sessions.problems() == [] and of_minute(sessions, network).lost == 2


def test_paths_come_and_go_and_a_pause_is_not_made_up_for(sessions, network):
    send(sessions, network, 3)
    sessions.renew([Spec(5, *THERE, 46 << 2, 120, 1.0), Spec(6, "192.0.2.2", 862)], network.now_ns / 1e9)
    network.now_ns += 3600 * 1000 * MS
    sessions.send(network.now_ns / 1e9)
    assert len(network.sent) <= 3 + 6, "an hour's probes are not sent at once"
    sessions.renew([], network.now_ns / 1e9)
    before = len(network.sent)
    send(sessions, network, 5)
    assert len(network.sent) == before


def test_probes_of_a_clockwork_reach_a_reflector_and_what_it_tells_is_near_the_truth():
    inlet = StampedSocket("127.0.0.1")
    reflector, ending = Reflector(inlet), threading.Event()

    def reflect():
        while not ending.wait(0.0005):
            reflector.take()

    thread = threading.Thread(target=reflect)
    thread.start()
    outlet = StampedSocket("127.0.0.1")
    sessions = Sessions(outlet)
    try:
        sessions.renew([Spec(1, "127.0.0.1", inlet.port, every_s=0.02)], time.time())
        until = time.time() + 2
        while time.time() < until:
            sessions.send(time.time())
            sessions.take()
            time.sleep(0.001)
        time.sleep(0.1)
        sessions.take()
    finally:
        ending.set()
        thread.join()
        outlet.close()
        inlet.close()
    told = sessions.closed(time.time() + 200)
    assert sum(each.sent for _, _, each in told) >= 20 and sum(each.lost for _, _, each in told) == 0
    assert reflector.answered == sum(each.sent for _, _, each in told)


@pytest.mark.django_db(transaction=True)
async def test_a_prober_measures_stores_and_answers(monkeypatch):
    monkeypatch.setattr("lumtar.engine.prober.sessions.INTERVAL_S", 2)
    monkeypatch.setattr("lumtar.engine.prober.sessions.TIMEOUT_S", 0.5)
    port = free_port()
    monkeypatch.setenv("LUMTAR_REFLECTOR_PORT", str(port))
    path = await sync_to_async(services.keep)(
        Path(name="Here and back", address="127.0.0.1", port=port, every_ms=50), "anna"
    )
    nowhere = await sync_to_async(services.keep)(
        Path(name="Nobody there", address="127.0.0.1", port=free_port(), every_ms=100), "anna"
    )
    prober = Prober("prober")
    task = asyncio.create_task(prober.work())
    try:
        for _ in range(200):
            await asyncio.sleep(0.1)
            if await sync_to_async(Minute.objects.filter(path=path, lost=0, sent__gt=10).exists)():
                break
    finally:
        task.cancel()
        with pytest.raises(asyncio.CancelledError):
            await task
    rows = await sync_to_async(lambda: list(Minute.objects.filter(path=path).values()))()
    assert rows and all(row["lost"] == 0 and row["p50"] < 50_000 for row in rows)
    dead = await sync_to_async(lambda: list(Minute.objects.filter(path=nowhere).values()))()
    assert dead and all(row["lost"] == row["sent"] for row in dead)
    assert prober.progress()["answered"] > 10 and prober.trouble() == ""


@pytest.fixture
def path(db):
    row = services.keep(Path(name="Depot – Hexwater, voice", address="127.0.9.9"), "anna")
    now = datetime.now(UTC)
    store.MINUTES.ensure(now - timedelta(days=1), now + timedelta(days=1))
    store.HOURS.ensure(now - timedelta(days=2), now + timedelta(days=1))
    return row


def test_the_alarm_of_a_path_that_is_deleted_ends(path):
    now = datetime.now(UTC).replace(second=30, microsecond=0)
    rules.create({"name": "Loss", "measure": "path_loss", "levels": [{"severity": 3, "limit": 5, "clear": 5}]}, "anna")
    minute_rules.look(now)
    told(path, path_frames.last_minute(now) + timedelta(minutes=1), 20, lost=30)
    minute_rules.look(now + timedelta(minutes=1))
    assert Alarm.objects.filter(is_cleared=False).count() == 1
    services.delete(path.pk, "anna")
    minute_rules.look(now + timedelta(minutes=2))
    assert not Alarm.objects.filter(is_cleared=False).exists()


def told(path, at, ms, lost=0, sent=60):
    row = np.zeros(1, store.ROW)
    row["path"], row["at"], row["sent"], row["lost"], row["longest_burst"] = path.pk, at.timestamp(), sent, lost, lost
    for place, name in enumerate(store.TRIPS):
        row[name] = np.nan if lost == sent else 1000 * ms * (0.9 + 0.05 * place)
    for name in ("mean", "variation", "variation_95", "jitter", "out", "back"):
        row[name] = np.nan if lost == sent else 1000.0 * (ms if name in ("mean", "jitter") else 2)
    store.append(row)


def test_minutes_become_hours_and_stay_what_they_were(path):
    hour = datetime.now(UTC).replace(minute=0, second=0, microsecond=0) - timedelta(hours=3)
    told(path, hour, 20)
    told(path, hour + timedelta(minutes=1), 40, lost=30)
    told(path, hour + timedelta(minutes=2), 0, lost=60)
    for _ in range(2):
        assert levels.roll_up(store.HOURS, hour) == 1
    row = Hour.objects.get()
    assert (row.sent, row.lost, row.longest_burst) == (180, 90, 60)
    assert row.mean == pytest.approx(1000 * (20 * 60 + 40 * 30) / 90)
    assert row.least == pytest.approx(18_000) and row.longest == pytest.approx(48_000)
    assert row.jitter == pytest.approx(row.mean), "as it was all the time, not only at the end"
    assert 20_000 <= row.p50 <= 24_000
    start, end = hour - timedelta(hours=20), hour + timedelta(hours=2)
    step = levels.width_of(start, end)
    rows = levels.drawn(levels.read_span([path.pk], start, end, step), step)
    assert step == 3600 and rows["sent"].tolist() == [180]


def test_rules_about_paths_are_held_and_rehearsed(path):
    now = datetime.now(UTC).replace(second=30, microsecond=0)
    last = path_frames.last_minute(now)
    for ago in range(40, 0, -1):
        told(path, last - timedelta(minutes=ago), 20)
    for measure, limit in (("path_delay_95", 100), ("path_loss", 5)):
        rules.create(
            {"name": measure, "measure": measure, "levels": [{"severity": 3, "limit": limit, "clear": limit}]}, "anna"
        )
    minute_rules.look(now)
    told(path, last + timedelta(minutes=1), 400, lost=12)
    minute_rules.look(now + timedelta(minutes=1))
    assert sorted(Alarm.objects.filter(is_cleared=False).values_list("type", "label")) == [
        ("path-delay-95", path.name),
        ("path-loss", path.name),
    ]
    told(path, last + timedelta(minutes=2), 0, lost=60)
    minute_rules.look(now + timedelta(minutes=2))
    words = Alarm.objects.get(type="path-loss").changes.order_by("-at", "-pk").first().text
    assert words.startswith("Probes lost"), words
    rule = rules.as_core(
        rules.create(
            {"name": "Slow", "measure": "path_delay", "levels": [{"severity": 3, "limit": 300, "clear": 300}]}, "anna"
        )
    )
    found = rehearsals.run(rule, [path.pk], last - timedelta(minutes=35), last + timedelta(minutes=2))
    assert len(found.alarms) == 1


def test_paths_that_cannot_be_measured_are_refused(db):
    for wrong, words in (
        ({"name": " "}, "needs a name"), ({"port": 0}, "at which port"), ({"port": 70000}, "The port"), ({"dscp": 64}, "DSCP"), ({"octets": 10}, "octets"),
        ({"every_ms": 5}, "between two probes"), ({"prober": " "}, "which prober"),
    ):  # fmt: skip
        with pytest.raises(Refusal, match=words):
            services.keep(Path(**{"name": "One", "address": "127.0.0.1", **wrong}), "anna")


def test_stand_ins_answer_as_far_away_as_they_are_and_can_be_made_worse():
    county = build()
    boxes = [box for box in county.boxes if box.name in ("hex-wan-1", "dun-wan-1")]
    devices = {box.name: StandIn(county, box, time.time() - 4000, time.time, ()) for box in boxes}
    reflectors = Reflectors(devices)
    clockwork = Clockwork(None)
    try:
        assert "done" in carry_out(devices, {"words": ["path", "Dunmere", "both", "loss", "1"]}, None, None, reflectors)
        assert "done" in carry_out(
            devices, {"words": ["path", "Hexwater", "out", "delay", "200"]}, None, None, reflectors
        )
        with pytest.raises(FaultRefused):
            carry_out(devices, {"words": ["path", "Nowhere", "out", "delay", "200"]}, None, None, reflectors)
        outlet = StampedSocket("127.0.0.1")
        sessions = Sessions(outlet)
        address = {box.name: box.address for box in boxes}
        sessions.renew(
            [
                Spec(1, address["hex-wan-1"], PORT, 46 << 2, every_s=0.1),
                Spec(2, address["dun-wan-1"], PORT, every_s=0.1),
            ],
            time.time(),
        )
        until = time.time() + 3
        while time.time() < until:
            sessions.send(time.time())
            sessions.take()
            time.sleep(0.002)
        found = {path: each for path, _, each in sessions.closed(time.time() + 200)}
        outlet.close()
    finally:
        reflectors.close()
    assert found[2].lost == found[2].sent
    least = 1000 * (way_to("Hexwater", 0.0, 46).delay_ms * 2 + 200)
    assert least - 1000 <= found[1].least and found[1].lost <= found[1].sent // 2
    assert clockwork.problem == ""
