"""Sets of addresses, strangers to lists, and senders that reach many."""

import ipaddress
from collections import defaultdict

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lumtar.core.flows import scans, totals
from lumtar.core.flows.addresses import AddressSet, KnownAddresses, keys_of
from lumtar.core.flows.records import address_numbers
from lumtar.core.refusal import Refusal


def keys(*addresses):
    halves = [address_numbers(each) for each in addresses]
    return keys_of(np.array([hi for hi, _ in halves], "u8"), np.array([lo for _, lo in halves], "u8"))


def test_prefixes_ranges_and_stars_of_both_versions():
    known = AddressSet.of("10.1.*  # Depot\n10.2.0.10-12, 2001:db8:1::/48\n192.0.2.0/31 10.2.0.200")
    inside = (
        "10.1.0.0",
        "10.1.255.255",
        "10.2.0.10",
        "10.2.0.12",
        "10.2.0.200",
        "2001:db8:1::",
        "2001:db8:1:ffff::1",
        "192.0.2.0",
    )
    outside = (
        "10.0.255.255",
        "10.2.0.0",
        "10.2.0.9",
        "10.2.0.13",
        "2001:db8:2::",
        "192.0.2.2",
        "::1",
        "255.255.255.255",
    )
    assert known.contains(keys(*inside)).all() and not known.contains(keys(*outside)).any()
    assert AddressSet.of("10.*").contains(keys("10.255.0.1", "11.0.0.0")).tolist() == [True, False]
    assert not AddressSet().contains(keys("10.0.0.1")).any()
    for wrong in ("10.1.*.3", "everybody", "10.0.0.9-10.0.0.1", "300.*"):
        with pytest.raises(Refusal):
            AddressSet.of(wrong)


networks = st.one_of(
    st.tuples(st.ip_addresses(v=4), st.integers(0, 32)), st.tuples(st.ip_addresses(v=6), st.integers(0, 128))
).map(lambda made: ipaddress.ip_network(made, strict=False))


@settings(max_examples=200)
@given(st.lists(networks, max_size=8), st.lists(st.ip_addresses(), min_size=1, max_size=8))
def test_a_set_has_what_any_of_its_prefixes_has(prefixes, addresses):
    # Of each prefix the edges, where mistakes are made.
    edges = [each[place] for each in prefixes for place in (0, -1)]
    # One of version 4 that is written in version 6 is taken for what it is.
    asked = [str(each) for each in (*addresses, *edges) if each.version == 4 or each.ipv4_mapped is None]
    plain = [any(ipaddress.ip_address(each) in prefix for prefix in prefixes) for each in asked]
    assert AddressSet.of("\n".join(map(str, prefixes))).contains(keys(*asked)).tolist() == plain


def test_strangers_are_within_and_not_listed_or_denied():
    asked = keys("10.1.0.1", "10.9.0.1", "198.51.100.1")
    allow = KnownAddresses(AddressSet.of("10.0.0.0/8"), AddressSet.of("10.1.*"))
    assert allow.strangers(asked).tolist() == [False, True, False]
    deny = KnownAddresses(AddressSet(), AddressSet.of("198.51.100.0/24"), is_deny=True)
    assert deny.strangers(asked).tolist() == [False, False, True]


def test_senders_with_many_receivers_or_ports():
    rows = np.zeros(25 + 30 + 40, totals.CONVERSATION)
    rows["interface"], rows["minute"], rows["octets"] = 7, 100, 60
    rows["src_lo"][:25], rows["dst_lo"][:25], rows["port"][:25] = 1, np.arange(25), 22
    rows["src_lo"][25:55], rows["dst_lo"][25:55], rows["port"][25:55] = 2, 9, np.arange(1, 31)
    rows["src_lo"][55:], rows["dst_lo"][55:], rows["is_reply"][55:] = 3, np.arange(40), 1
    found = scans.fan_out(rows[np.random.default_rng(1).permutation(len(rows))])
    assert [(int(each["src_lo"]), int(each["receivers"]), int(each["ports"])) for each in found] == [
        (1, 25, 1),
        (2, 1, 30),
    ]
    assert int(found["dst_lo"][1]) == 9 and int(found["octets"][0]) == 25 * 60
    rows["way"] = totals.OUT
    assert len(scans.fan_out(rows)) == len(scans.fan_out(rows[:0])) == 0


@settings(max_examples=100)
@given(st.lists(st.tuples(*(st.integers(0, 2),) * 3, st.integers(0, 4), st.integers(0, 3)), min_size=1, max_size=80))
def test_fan_out_is_what_a_plain_loop_counts(given_rows):
    rows = np.zeros(len(given_rows), totals.CONVERSATION)
    for place, (minute, interface, src, dst, port) in enumerate(given_rows):
        for name, value in (
            ("minute", minute),
            ("interface", interface),
            ("src_lo", src),
            ("dst_lo", dst),
            ("port", port),
        ):
            rows[name][place] = value
    plain = defaultdict(lambda: defaultdict(set))
    for minute, interface, src, dst, port in given_rows:
        plain[minute, interface, src][dst].add(port)
    wanted = {key: (len(by), max(map(len, by.values()))) for key, by in plain.items()}
    least, scans.LEAST = scans.LEAST, 0
    try:
        found = scans.fan_out(rows)
    finally:
        scans.LEAST = least
    got = {
        (int(each["minute"]), int(each["interface"]), int(each["src_lo"])): (int(each["receivers"]), int(each["ports"]))
        for each in found
    }
    assert got == wanted
