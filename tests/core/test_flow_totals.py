"""Totals of flow records, held to a slow and plain reference; nothing is lost on the way."""

import ipaddress
from collections import defaultdict

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lumtar.core.flows import totals
from lumtar.core.flows.addresses import AddressSet
from lumtar.core.flows.applications import STANDARD, TCP, Application, Applications, ports_of
from lumtar.core.flows.lookups import Interfaces, Prefixes
from lumtar.core.flows.records import EGRESS, INGRESS, MAPPED, address_numbers, address_text, empty
from lumtar.core.refusal import Refusal

START = 1_795_440_000


def records(*rows):
    """Records from dictionaries; times are seconds after START."""
    made = empty(len(rows))
    made["start"] = made["end"] = START
    for place, row in enumerate(rows):
        for name, value in row.items():
            if name in ("src", "dst"):
                made[f"{name}_hi"][place], made[f"{name}_lo"][place] = address_numbers(value)
            else:
                made[name][place] = value + START if name in ("start", "end") else value
    return made


flows = st.fixed_dictionaries(
    {
        "src": st.sampled_from(["10.0.0.1", "10.0.0.2", "2001:db8::1"]),
        "dst": st.sampled_from(["10.0.0.9", "2001:db8::9"]),
        "octets": st.one_of(st.integers(0, 10**6), st.integers(0, 2**63 - 1)),
        "packets": st.integers(0, 10**6),
        "start": st.floats(0, 900, allow_nan=False),
        "end": st.floats(0, 900, allow_nan=False),
        "input": st.integers(0, 3),
        "output": st.integers(0, 3),
        "src_port": st.sampled_from([0, 53, 443, 50000]),
        "dst_port": st.sampled_from([0, 53, 443, 50001]),
        "protocol": st.sampled_from([1, 6, 17]),
        "tos": st.sampled_from([0, 184]),
        "direction": st.sampled_from([INGRESS, EGRESS, 255]),
    }
).map(lambda row: row | {"start": min(row["start"], row["end"]), "end": max(row["start"], row["end"])})
streams = st.lists(flows, min_size=1, max_size=12)


@given(streams)
def test_what_is_spread_over_minutes_adds_up_to_the_octet(rows):
    made = records(*rows)
    which, minute, octets, packets = totals.spread(made)
    for place in range(len(made)):
        mine = which == place
        assert sum(map(int, octets[mine])) == int(made["octets"][place])
        assert sum(map(int, packets[mine])) == int(made["packets"][place])
        first, last = made["start"][place] // 60, made["end"][place] // 60
        assert first <= minute[mine].min() and minute[mine].max() <= last


def test_a_flow_is_spread_evenly():
    made = records({"octets": 1000, "packets": 10, "start": 30.0, "end": 130.0})
    _, minute, octets, _ = totals.spread(made)
    assert (minute - START // 60).tolist() == [0, 1, 2]
    assert octets.tolist() == [300, 600, 100]
    one = records({"octets": 7, "packets": 1, "start": 60.0, "end": 120.0})
    assert totals.spread(one)[1].tolist() == [START // 60 + 1], "it ends with the minute, and is not in the next one"


def test_a_beginning_that_cannot_be_is_not_believed():
    made = records({"octets": 6000, "packets": 1, "start": 0.0, "end": 600.0})
    made["start"] = 0.0
    _, minute, octets, _ = totals.spread(made)
    assert len(minute) == totals.LONGEST_MINUTES and int(octets.sum()) == 6000


def conversations(made, both_ways=False):
    ports = totals.service_port(made["src_port"], made["dst_port"], made["protocol"], Applications().known_ports)
    interfaces = Interfaces.of({1: 101, 2: 102, 3: 103})
    told, _ = totals.passed(
        made,
        ports,
        (interfaces.find(made["input"]), interfaces.find(made["output"])),
        Applications().find(made, ports),
        (np.zeros(len(made), "u4"), np.zeros(len(made), "u4")),
    )
    rows, _ = totals.at_interfaces(totals.added(told), both_ways=both_ways)
    return totals.added(rows)


@settings(max_examples=150)
@given(streams, st.booleans())
def test_conversations_are_what_a_plain_loop_makes_of_them(rows, both_ways):
    made = records(*rows)
    wanted = defaultdict(int)
    which, minutes, octets, _ = totals.spread(made)
    for record, minute, amount in zip(which.tolist(), minutes.tolist(), octets.tolist(), strict=True):
        row = rows[record]
        for way, index in ((0, row["input"]), (1, row["output"])):
            skipped = both_ways and row["direction"] == (EGRESS if way == 0 else INGRESS)
            if index and not skipped:
                wanted[minute, 100 + index, way, row["src"], row["dst"], row["protocol"], row["tos"] >> 2] += amount
    found = defaultdict(int)
    for row in conversations(made, both_ways):
        ends = [address_text(int(row[f"{end}_hi"]), int(row[f"{end}_lo"])) for end in ("src", "dst")]
        key = (int(row["minute"]), int(row["interface"]), int(row["way"]), *ends, int(row["protocol"]), int(row["tos"]))
        found[key] += int(row["octets"])
    assert {key: value % 2**64 for key, value in wanted.items()} == {key: value % 2**64 for key, value in found.items()}


@given(streams)
def test_the_smaller_ones_together_lose_nothing(rows):
    made = conversations(records(*rows))
    kept = totals.largest(made, 2)
    for name in ("octets", "packets", "flows"):
        assert int(made[name].sum()) == int(kept[name].sum())
    by = ("minute", "interface", "way", "application", "protocol", "tos")
    assert sums(made, by) == sums(kept, by), "applications stay exact"
    for _, count in counts(kept[kept["is_rest"] == 0], ("minute", "interface", "way")).items():
        assert count <= 2


def sums(rows, names):
    found = defaultdict(int)
    for row in rows:
        found[tuple(int(row[name]) for name in names)] += int(row["octets"])
    return {key: value % 2**64 for key, value in found.items()}


def counts(rows, names):
    found = defaultdict(int)
    for row in rows:
        found[tuple(int(row[name]) for name in names)] += 1
    return found


def test_the_same_hash_of_two_conversations_does_not_join_them(monkeypatch):
    monkeypatch.setattr(totals, "_hash", lambda keys: np.zeros(len(keys), "u8"))
    made = conversations(records(
        {"src": "10.0.0.1", "octets": 5, "input": 1, "end": 1.0}, {"src": "10.0.0.2", "octets": 7, "input": 1, "end": 1.0},
        {"src": "10.0.0.1", "octets": 9, "input": 1, "end": 1.0},
    ))  # fmt: skip
    assert sorted(made["octets"].tolist()) == [7, 14]


def seen(interface, octets, way=0, src="10.0.0.1"):
    part = conversations(records({"src": src, "dst": "10.0.0.9", "octets": octets, "input": 1, "end": 1.0}))
    part["interface"], part["way"] = interface, way
    return part


def test_several_exporters_that_tell_of_one_conversation_count_once():
    device_of = {101: 1, 102: 1, 103: 2, 104: 2}
    both = np.concatenate((seen(101, 900), seen(102, 900, way=1), seen(103, 1000), seen(104, 1000, way=1)))
    marked = totals.counted_once(both, device_of)
    chosen = marked[marked["is_counted"] == 1]
    assert chosen["interface"].tolist() == [103], "where it came in, at the device that tells of most"
    only_out = totals.counted_once(seen(102, 5, way=1), device_of)
    assert only_out["is_counted"].tolist() == [1], "seen as leaving alone it counts there"
    apart = totals.counted_once(np.concatenate((seen(101, 5), seen(103, 7, src="10.0.0.2"))), device_of)
    assert apart["is_counted"].tolist() == [1, 1]
    assert len(totals.counted_once(both[:0], device_of)) == 0


def test_sampling_multiplies_and_does_not_overflow():
    made = records(
        {"octets": 100, "packets": 2, "sampling": 64}, {"octets": 2**62, "packets": 1, "sampling": 1000}, {"octets": 7}
    )
    assert totals.scaled(made)["octets"].tolist()[:1] == [6400] and totals.scaled(made)["packets"][0] == 128
    assert totals.scaled(made)["octets"][1] < 2**63
    assert totals.scaled(made, usual=10)["octets"][2] == 70, "as somebody set it"


@pytest.mark.parametrize(
    ("src", "dst", "protocol", "port"),
    [
        (443, 50000, 6, 443), (50000, 443, 6, 443), (50000, 27015, 17, 27015), (22, 80, 6, 22), (0, 50000, 6, 50000),
        (8080, 25, 6, 25), (443, 50000, 1, 0),
    ],
)  # fmt: skip
def test_the_port_of_the_service(src, dst, protocol, port):
    given_ports = np.array([src], "u2"), np.array([dst], "u2"), np.array([protocol], "u1")
    assert totals.service_port(*given_ports, Applications().known_ports).tolist() == [port]


def test_applications_by_port_and_by_protocol():
    made = Applications()
    asked = empty(7)
    asked["protocol"] = [6, 17, 6, 17, 1, 47, 200]
    numbers = made.find(asked, np.array([443, 53, 9999, 445, 3, 0, 0], "u2"))
    assert [made.names[int(each)] for each in numbers] == [
        "web", "DNS", "unknown", "file sharing", "ICMP", "tunnels", "unknown",
    ]  # fmt: skip
    assert len({each.number for each in STANDARD}) == len(STANDARD)


def test_own_applications_go_before_and_ask_who_is_there_and_what_the_exporter_says():
    catalogue = AddressSet.of("10.0.10.200")
    own = (
        Application(1001, "catalogue", (), (8080,), catalogue),
        Application(1002, "anything else on 8080", (TCP,), (8080,)),
        Application(1003, "told", (), (), AddressSet(), (13 << 24 | 7,)),
        Application(1004, "all of UDP", (17,)),
    )
    made = Applications((*STANDARD, *own))
    asked = empty(6)
    asked["protocol"], asked["src_lo"] = [6, 6, 6, 17, 17, 17], MAPPED | 0x0A000001
    asked["dst_lo"][0] = MAPPED | 0x0A000AC8
    asked["src_lo"][1] = MAPPED | 0x0A000AC8
    asked["application"][4] = 13 << 24 | 7
    ports = np.array([8080, 8080, 8080, 53, 53, 40000], "u2")
    assert [made.names[int(each)] for each in made.find(asked, ports)] == [
        "catalogue", "catalogue", "anything else on 8080", "DNS", "told", "all of UDP",
    ]  # fmt: skip
    assert made.known_ports[0, 8080] and not made.known_ports[1, 40000]
    assert ports_of("443, 8000-8002 53") == (53, 443, 8000, 8001, 8002)
    for wrong in ("http", "0", "70000", "9-3", "1-"):
        with pytest.raises(Refusal):
            ports_of(wrong)


prefixes = st.dictionaries(
    st.builds(
        lambda address, length: str(ipaddress.ip_network((address, length), strict=False)),
        st.one_of(st.integers(0, 2**32 - 1), st.integers(0x0A000000, 0x0A00FFFF)).map(ipaddress.IPv4Address),
        st.integers(0, 32),
    ),
    st.integers(1, 9),
    max_size=12,
)


@given(
    prefixes,
    st.lists(st.one_of(st.integers(0, 2**32 - 1), st.integers(0x0A000000, 0x0A00FFFF)), min_size=1, max_size=8),
)
def test_the_longest_prefix_wins(table, numbers):
    addresses = [ipaddress.IPv4Address(number) for number in numbers]
    halves = [address_numbers(str(each)) for each in addresses]
    found = Prefixes.of(table).find(*(np.array([half[place] for half in halves], "u8") for place in (0, 1)))
    for address, number in zip(addresses, found.tolist(), strict=True):
        fitting = [ipaddress.ip_network(each) for each in table if address in ipaddress.ip_network(each)]
        best = max(fitting, key=lambda each: each.prefixlen, default=None)
        assert number == (table[str(best)] if best else 0)


def test_prefixes_of_version_6():
    table = Prefixes.of({"2001:db8::/32": 1, "2001:db8:7::/48": 2, "2001:db8:7:1::/64": 3})
    for text, number in (
        ("2001:db8::1", 1),
        ("2001:db8:7::1", 2),
        ("2001:db8:7:1::9", 3),
        ("2001:db9::1", 0),
        ("10.0.0.1", 0),
    ):
        hi, lo = address_numbers(text)
        assert table.find(np.array([hi], "u8"), np.array([lo], "u8")).tolist() == [number], text


@given(st.one_of(st.ip_addresses(v=4), st.ip_addresses(v=6)))
def test_addresses_are_two_numbers_and_back(address):
    if address.version == 6 and address.ipv4_mapped:
        return
    assert address_text(*address_numbers(str(address))) == str(address)
