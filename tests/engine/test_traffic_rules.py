"""Rules about watched traffic, strangers, scans, and what flows explain: from stored minutes to alarms."""

import threading
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

from lumtar.core.flows import scans
from lumtar.core.flows.addresses import AddressSet, KnownAddresses
from lumtar.core.flows.records import MAPPED
from lumtar.core.flows.response_times import RESPONSES
from lumtar.core.refusal import Refusal
from lumtar.core.rules.ready import READY
from lumtar.domain.alarms import rules
from lumtar.domain.alarms.models import Alarm
from lumtar.domain.flows import names, response_times, store, strangers, watched
from lumtar.domain.flows.models import AddressList, Exporter, FanOut, FirstSeen, Stranger, WatchedTraffic
from lumtar.domain.inventory.models import Interface, InterfaceSpeed, Site
from lumtar.domain.inventory.services import add_device
from lumtar.domain.operation.models import Process
from lumtar.domain.readings import partitions
from lumtar.domain.readings.models import Reading
from lumtar.domain.reports import flow_shares, learning, rehearsals, watched_traffic
from lumtar.domain.reports.traffic import known_addresses
from lumtar.engine import minute_rules
from lumtar.engine.flows.sightings import Sightings
from tests.engine.test_flows import conversations

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(second=20, microsecond=0)
MINUTE = timedelta(minutes=1)
LAST = store.complete_until(NOW) - MINUTE
"""The last complete minute at NOW."""


@pytest.fixture
def port():
    device = add_device("127.0.9.9", name="hex-wan-1", site="Hexwater", kind="v2c", secret={"community": "word"})
    made = Interface.objects.create(device=device, if_index=1, name="wan1", label="Transport A")
    InterfaceSpeed.objects.create(
        interface=made, since=NOW - timedelta(days=2), in_bps=100_000_000, out_bps=100_000_000, port_bps=100_000_000
    )
    Exporter.objects.create(
        address="127.0.9.9", protocol="ipfix", domain=0, device=device, first_at=NOW - timedelta(days=1)
    )
    Process.objects.create(name="flows", kind="flows", started_at=NOW - timedelta(days=1), beat_at=NOW)
    store.MINUTES.ensure(NOW - timedelta(hours=5), NOW + timedelta(hours=1))
    store.HOURS.ensure(NOW - timedelta(days=1), NOW)
    store.RESPONSE_MINUTES.ensure(NOW - timedelta(hours=5), NOW + timedelta(hours=1))
    partitions.ensure((NOW - timedelta(days=1)).date(), (NOW + timedelta(days=1)).date())
    return made


def answered(port, at, network_ms, server_ms):
    """A minute in which a server answered once."""
    row = np.zeros(1, RESPONSES)
    row["minute"], row["server_lo"], row["device"] = int(at.timestamp() // 60), MAPPED | 9, port.device_id
    for name, ms in (("network", network_ms), ("server", server_ms)):
        row[f"{name}_us"], row[f"{name}_number"] = 1000 * ms, 1
    response_times.append(row)


def carried(port, at, *rows):
    store.append(conversations(port.pk, int(at.timestamp() // 60), *rows))


def standing():
    rows = Alarm.objects.filter(is_cleared=False).order_by("type", "resource_id")
    return [(alarm.type, alarm.label, alarm.changes.order_by("-at", "-pk").first().text) for alarm in rows]


def a_rule(measure, limit, **more):
    return rules.create(
        {"name": measure, "measure": measure, "levels": [{"severity": 3, "limit": limit, "clear": limit}], **more},
        "anna",
    )


def test_watched_traffic_above_a_limit_for_a_time(port):
    row = watched.watch("Backups", {"interface": str(port.pk), "way": "in", "application": "14"}, "anna")
    a_rule("traffic_rate", 10e6, times=2, of=2, scope='traffic is "Backups"')
    for back in range(4, -1, -1):
        heavy = 150_000_000 if back < 3 else 1000
        # Only what is asked for counts: the same again of another application, and the other way.
        carried(port, LAST - back * MINUTE, (1, 9, heavy, 14, 0), (2, 9, 10**9, 1, 0), (1, 9, 10**9, 14, 1))
    minute_rules.look(NOW - 3 * MINUTE)
    assert standing() == []
    minute_rules.look(NOW - 2 * MINUTE)
    assert standing() == [], "two minutes in a row"
    # Minutes that were missed are looked at now.
    minute_rules.look(NOW)
    assert standing() == [("traffic-rate", "Backups", "Rate 20 Mb/s, above 10 Mb/s, for two readings in a row")]
    (alarm,) = Alarm.objects.filter(is_cleared=False)
    assert alarm.raised_at == LAST, "when it was carried, not when it was looked at"
    watched.end(row.pk, "anna")
    minute_rules.look(NOW + MINUTE)
    assert standing() == []


def test_shares_senders_and_receivers(port):
    watched.watch("All of it", {"interface": str(port.pk), "way": "in"}, "anna")
    carried(port, LAST, (1, 9, 60_000_000, 1, 0), (2, 9, 15_000_000, 1, 0), (2, 8, 75_000_000, 2, 0))
    numbers, frame = watched_traffic.watched_now(NOW, ())
    assert len(numbers) == 1 and frame.rate[0] == 20e6 and frame.share[0] == 20.0
    assert (frame.senders[0], frame.receivers[0]) == (2, 2)
    (row,) = WatchedTraffic.objects.all()
    at, history = watched_traffic.history(row.pk, LAST - 2 * MINUTE, LAST + MINUTE, 60)
    assert history.rate.tolist() == [0, 0, 20e6] and at[-1] == (LAST + MINUTE).timestamp()


def test_a_rehearsal_of_watched_traffic_says_what_the_look_says(port):
    watched.watch("All of it", {"interface": str(port.pk), "way": "in"}, "anna")
    for back in (40, 39, 38, 20):
        carried(port, LAST - back * MINUTE, (1, 9, 150_000_000, 14, 0))
    rule = a_rule("traffic_rate", 10e6, times=2, of=2)
    subjects = rehearsals.subjects_of("traffic")
    found = rehearsals.run(rules.as_core(rule), subjects, NOW - timedelta(hours=1), NOW)
    assert len(found.alarms) == 1
    assert found.alarms[0].raised_at == pytest.approx((LAST - 38 * MINUTE).timestamp())


def test_a_slow_server_is_told_apart_from_the_network(port):
    watched.watch("Catalogue", {"address": "0.0.0.9"}, "anna")
    for measure in ("traffic_server_ms", "traffic_network_ms"):
        a_rule(measure, 500, statistic="mean", window_s=120)
    for number in range(6):
        answered(port, LAST + number * MINUTE, 20, 30 if number < 2 else 1300)
        minute_rules.look(NOW + number * MINUTE)
    assert [(kind, name) for kind, name, _ in standing()] == [("traffic-server-time", "Catalogue")]
    assert standing()[0][2] == "Mean of response time of the server over 2 minutes 665 ms, above 500 ms"
    for number in range(6, 9):
        minute_rules.look(NOW + number * MINUTE)
    assert [kind for kind, _, _ in standing()] == ["traffic-server-time"], "that nothing is told of it is no answer"


def test_a_rehearsal_knows_how_response_times_were(port):
    row = watched.watch("Catalogue", {"address": "0.0.0.9"}, "anna")
    for number in range(30):
        answered(port, LAST - number * MINUTE, 20, 1300 if 10 < number < 20 else 30)
    at, frame = watched_traffic.history(row.pk, LAST - 29 * MINUTE, LAST + MINUTE, 60)
    assert len(at) == 30 and (frame.server_ms > 1000).sum() == 9 and (frame.network_ms == 20).all()


def test_what_is_usual_for_watched_traffic_is_learned_from_its_hours(port):
    row = watched.watch("All of it", {"interface": str(port.pk), "way": "in"}, "anna")
    end = NOW.replace(minute=0, second=0)
    store.HOURS.ensure(end - timedelta(days=50), end)
    for day in range(1, 45):
        for hour in (0, 1):
            at = end - timedelta(days=day) + timedelta(hours=hour)
            part = conversations(port.pk, int(at.timestamp() // 60), (1, 9, 450_000_000 * (1 + hour), 1, 0))
            store.append(part, table=store.HOURS)
    rule = rules.as_core(a_rule("traffic_rate", 8, reference="learned"))
    known = learning.learn(rule, [row.pk], end)
    assert known.weeks[0].max() >= 4
    medians = known.median[0][known.median[0] > 0]
    assert set(np.round(medians / 1e6).tolist()) == {1.0, 2.0}


def test_what_is_new_in_watched_traffic_is_told_once_a_day_was_seen(port):
    carried(port, LAST - timedelta(hours=2), (1, 9, 1000, 1, 0))
    row = watched.watch("All of it", {"device": str(port.device_id)}, "anna")
    assert FirstSeen.objects.filter(traffic=row).count() == 2, "what was there before is known"
    WatchedTraffic.objects.update(seen_until=LAST)
    a_rule("traffic_new_applications", 0.5)
    a_rule("traffic_new_senders", 0.5)
    carried(port, LAST + 4 * MINUTE, (1, 9, 1000, 1, 0), (7, 9, 1000, 5, 0))
    watched.note_seen(NOW + 4 * MINUTE)
    minute_rules.look(NOW + 4 * MINUTE)
    assert standing() == [], "not before it was watched for a day"
    assert WatchedTraffic.objects.get().seen_until == LAST + 5 * MINUTE
    WatchedTraffic.objects.update(since=NOW - timedelta(days=3))
    minute_rules.look(NOW + 5 * MINUTE)
    assert standing() == [
        ("new-application", "All of it", "One application seen for the first time within the last hour: SSH"),
        ("new-sender", "All of it", "One sender seen for the first time within the last hour: 0.0.0.7"),
    ]


def test_what_was_seen_while_no_rule_asked_is_not_new_later(port):
    row = watched.watch("All of it", {"device": str(port.device_id)}, "anna")
    WatchedTraffic.objects.update(since=NOW - timedelta(days=30), seen_until=NOW - timedelta(hours=5))
    carried(port, LAST - timedelta(hours=3), (7, 9, 1000, 5, 0))
    watched.note_seen(NOW - timedelta(hours=2))
    assert FirstSeen.objects.filter(traffic=row).count() == 2
    a_rule("traffic_new_applications", 0.5)
    carried(port, LAST, (7, 9, 1000, 5, 0))
    watched.note_seen(NOW)
    minute_rules.look(NOW)
    assert standing() == []


def test_what_cannot_be_asked_any_more_stops_nothing_else(port):
    watched.watch("Of a site", {"site": "Hexwater"}, "anna")
    Site.objects.update(name="Renamed")
    a_rule("traffic_rate", 10e6, statistic="mean", window_s=600)
    a_rule("flows_fan_out", 100)
    row = np.zeros(1, scans.FAN_OUT)
    row["interface"], row["minute"], row["receivers"] = port.pk, int(LAST.timestamp() // 60), 400
    carried(port, LAST, (1, 9, 600_000, 1, 0))
    store.append_scans([row])
    watched.note_seen(NOW + MINUTE)
    minute_rules.look(NOW)
    assert [kind for kind, _, _ in standing()] == ["fan-out"]


def test_a_scan_at_a_port_that_was_deleted_meanwhile_is_left_out(port):
    row = np.zeros(2, scans.FAN_OUT)
    row["interface"], row["minute"], row["receivers"] = (port.pk, 987_654), 1000, 400
    store.append_scans([row])
    assert FanOut.objects.count() == 1


@pytest.mark.parametrize(
    ("filters", "words"),
    [
        ({"port": "many"}, "is a number"), ({"way": "up"}, "in or out"), ({"site": "Nowhere"}, "no site Nowhere"),
        ({"colour": "1"}, "no filter colour"), ({"sender": "somebody"}, "not an address"),
    ],
)  # fmt: skip
def test_filters_that_make_no_sense_are_refused(db, filters, words):
    with pytest.raises(Refusal, match=words):
        watched.watch("X", filters, "anna")
    assert not WatchedTraffic.objects.exists()


def count(port, at, octets):
    Reading.objects.create(
        interface=port, at=at, in_octets=octets, out_octets=10, in_packets=1, out_packets=1, in_unicast=1, out_unicast=1,
        in_errors=0, out_errors=0, in_discards=0, out_discards=0, elapsed_ms=60000, flags=0, oper=1,
    )  # fmt: skip


def test_flows_that_do_not_explain_the_counter(port):
    a_rule("flows_explained", 90, direction="below")
    for back in range(14):
        # Polls lie half a minute beside minutes.
        count(port, LAST + timedelta(seconds=90) - back * MINUTE, 1_000_000)
        carried(port, LAST - back * MINUTE, (1, 9, 600_000, 1, 0))
    minute_rules.look(NOW)
    assert standing() == [
        (
            "flows-unexplained",
            "hex-wan-1 Transport A",
            "Flows explain 60 % of what the port counted inbound, less than 90 %",
        )
    ]
    numbers, frame = watched_traffic.flow_ports_now(NOW, ())
    assert numbers.tolist() == [port.pk] and frame.explained[0] == pytest.approx(60.0)
    assert flow_shares.by_device(NOW) == {port.device_id: pytest.approx(60.0)}


@pytest.mark.parametrize(
    ("started", "stopped"),
    [(NOW - 5 * MINUTE, None), (NOW - timedelta(days=1), NOW - MINUTE)],
    ids=["young", "stopped"],
)
def test_what_was_sent_while_no_receiver_ran_is_not_held_against_exporters(port, started, stopped):
    Process.objects.filter(kind="flows").update(started_at=started, stopped_at=stopped)
    a_rule("flows_explained", 90, direction="below")
    for back in range(14):
        count(port, LAST + MINUTE - back * MINUTE, 1_000_000)
        carried(port, LAST - back * MINUTE, (1, 9, 600_000, 1, 0))
    minute_rules.look(NOW)
    assert standing() == []


def test_a_scan_is_told_with_who_it_is(port):
    a_rule("flows_fan_out", 100)
    carried(port, LAST, (1, 9, 600_000, 1, 0))
    row = np.zeros(2, scans.FAN_OUT)
    row["interface"], row["minute"], row["src_lo"] = port.pk, int(LAST.timestamp() // 60), MAPPED | 0x0A090042
    row["receivers"], row["ports"], row["src_hi"][1] = (508, 30), 1, 2**63 + 5
    store.append_scans([row])
    assert FanOut.objects.count() == 2
    minute_rules.look(NOW)
    assert standing() == [("fan-out", "hex-wan-1 Transport A", "10.9.0.66 reached 508 addresses within a minute")]
    minute_rules.look(NOW + MINUTE)
    assert standing() == []


@pytest.fixture
def known(db):
    return strangers.keep_list(AddressList(name="County", within="10.0.0.0/8\n172.16.0.0/12", listed="10.*"), "anna")


def seen(port, known, address, octets=500, at=NOW):
    looking = Sightings()
    looking.lists = strangers.in_force()
    rows = conversations(
        port.pk, int(at.timestamp() // 60), (address, 0xC6336401, octets, 1, 0), (0x0A000001, address, 7, 1, 0)
    )
    looking.look(rows, at.timestamp())
    strangers.keep(looking.take())
    assert looking.take() == []


def test_a_stranger_is_seen_at_once_raised_and_accepted(port, known):
    a_rule("stranger_seen", 0.5)
    seen(port, known, 0xAC1F0942)
    (row,) = Stranger.objects.all()
    assert (row.address, row.peer, row.octets, row.interface_id) == ("172.31.9.66", "198.51.100.1", 507, port.pk)
    minute_rules.look(NOW)
    assert standing() == [
        (
            "stranger", "172.31.9.66 (County)",
            "172.31.9.66 is not known: seen at hex-wan-1 Transport A with 198.51.100.1, tcp 443",
        )
    ]  # fmt: skip
    seen(port, known, 0xAC1F0942, 1000, NOW + MINUTE)
    row.refresh_from_db()
    assert row.octets == 507 + 1007 and Stranger.objects.count() == 1
    assert strangers.accept(known.pk, ["172.31.9.66"], "", "anna") == 1
    minute_rules.look(NOW + 2 * MINUTE)
    assert standing() == []
    known.refresh_from_db()
    assert "172.31.9.66  # accepted" in known.listed
    seen(port, known, 0xAC1F0942)
    assert Stranger.objects.filter(accepted_at=None).count() == 0
    with pytest.raises(Refusal, match="None of these"):
        strangers.accept(known.pk, ["172.31.9.66"], "", "anna")


def test_strangers_are_accepted_by_prefix_or_all_at_once(port, known):
    for address in (0xAC1F0942, 0xAC1F0943, 0xAC100001):
        seen(port, known, address)
    assert strangers.accept(known.pk, [], "172.31.9.0/24", "anna") == 2
    assert strangers.accept(known.pk, [], "", "anna", everybody=True) == 1
    known.refresh_from_db()
    assert known.listed.splitlines()[1].startswith("172.31.9.0/24  # accepted")
    assert AddressSet.of(known.listed).firsts.size == 3


def test_changing_a_list_settles_who_is_known_by_now(port, known):
    seen(port, known, 0xAC1F0942)
    known.listed = "10.*\n172.31.9.60-70"
    strangers.keep_list(known, "anna")
    assert Stranger.objects.get().accepted_by == "anna"
    denied = strangers.keep_list(AddressList(name="Bad", is_deny=True, listed="198.51.100.1"), "anna")
    seen(port, denied, 0x0A000005)
    assert Stranger.objects.get(known=denied).address == "198.51.100.1"


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({"name": " ", "within": "10.*"}, "needs a name"), ({"name": "County", "within": "10.*"}, "already"),
        ({"name": "X"}, "within which"), ({"name": "X", "is_deny": True}, "must not be seen"),
        ({"name": "X", "within": "ten"}, "is not a range"),
    ],
)  # fmt: skip
def test_lists_that_make_no_sense_are_refused(known, given, words):
    with pytest.raises(Refusal, match=words):
        strangers.keep_list(AddressList(**given), "anna")
    assert AddressList.objects.count() == 1


def test_a_list_that_knows_nobody_does_not_stop_the_rest(port):
    looking = Sightings()
    looking.lists = {1: KnownAddresses(AddressSet.of("0.0.0.0/0"), AddressSet())}
    rows = conversations(port.pk, 5, *((0x0A000000 + number, 0xC6336401, 10, 1, 0) for number in range(30_000)))
    looking.look(rows, 300.0)
    assert 0 < len(looking.take()) <= 2_001


def test_recommended_rules_about_traffic_can_be_kept(db):
    for each in READY:
        if each.rule().subject in ("flow_port", "stranger"):
            levels = [{"severity": int(one.severity), "limit": one.limit, "clear": one.clear} for one in each.levels]
            rules.create(
                {
                    "name": each.name,
                    "measure": each.measure,
                    "levels": levels,
                    "direction": each.direction,
                    "hold_s": each.hold.seconds,
                },
                "anna",
            )


def test_addresses_with_most_traffic_are_called_by_their_names(port):
    carried(port, LAST, (0x7F000001, 0xC0000201, 9000, 1, 0), (0x0A000005, 0xC0000201, 10, 1, 0))
    asked = []

    def ask(address):
        asked.append(address)
        return {"192.0.2.1": "server.example"}.get(address, "")

    assert names.renew(NOW, ask) == 3 and asked[0] == "192.0.2.1"
    assert names.named(["192.0.2.1", "10.0.0.5"]) == {"192.0.2.1": "server.example"}
    assert known_addresses({"192.0.2.1"}) == {"192.0.2.1": "server.example"}
    assert names.renew(NOW, ask) == 0, "what has no name is not asked for again and again"
    assert names.renew(NOW + timedelta(days=2), ask) == 0 and names.named(["192.0.2.1"]) == {}
    assert names.resolve("127.0.0.1") and names.resolve("192.0.2.300") == ""


def test_a_resolver_that_does_not_answer_holds_nobody_up(port, monkeypatch):
    carried(port, LAST, (0x7F000001, 0xC0000201, 9000, 1, 0))
    monkeypatch.setattr(names, "LIMIT_S", 0.2)
    ending = threading.Event()
    assert names.renew(NOW, lambda address: "a.example" if address == "127.0.0.1" else str(ending.wait(5))) == 1
    ending.set()
