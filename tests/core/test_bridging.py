"""Forwarding tables, spanning trees, VLANs, addresses, and the links that follow from who hears whom where."""

import random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lab.switching import hears, span
from lumtar.core.topology.addressing import Binding, OwnAddress, bindings, carriers, own_addresses
from lumtar.core.topology.bridging import (
    FORWARDING,
    Forwarding,
    PortVlans,
    Role,
    bridge_id,
    forwarding,
    port_roles,
    port_vlans,
    ports_of,
)
from lumtar.core.topology.inference import infer
from lumtar.core.topology.links import End
from lumtar.core.topology.macs import mac_number, mac_of_octets, mac_text

MAC = (2, 0, 0, 0xAB, 0xCD, 0xEF)
NUMBER = 0x020000ABCDEF


@pytest.mark.parametrize("text", ["02:00:00:ab:cd:ef", "0200.00ab.cdef", "02-00-00-AB-CD-EF", " 020000abcdef "])
def test_a_mac_address_in_any_notation(text):
    assert mac_number(text) == NUMBER and mac_text(NUMBER) == "02:00:00:ab:cd:ef"


@pytest.mark.parametrize("text", ["", "02:00:00:ab:cd", "02:00:00:ab:cd:eg", "10.0.0.1", "2001:db8::1"])
def test_what_is_no_mac_address(text):
    assert mac_number(text) is None


@given(st.integers(1, 2**48 - 1))
def test_a_mac_address_survives_its_text(number):
    assert mac_number(mac_text(number)) == number
    is_group = bool(number >> 40 & 1)
    assert mac_of_octets(number.to_bytes(6, "big")) == (None if is_group else number)


def rows(table):
    return [tuple(row) for row in table.rows.tolist()]


def test_a_table_by_vlan_names_the_vlan_of_its_filtering_database():
    told = {(7, *MAC): 3, (20, *MAC): 4, (9000, *MAC): 3}
    table = forwarding(told, {}, {3: 103, 4: 104}, {7: 10})
    assert rows(table) == [(NUMBER, 103, 0), (NUMBER, 103, 10), (NUMBER, 104, 20)]


def test_a_plain_table_of_a_device_that_names_no_interfaces_has_ifindexes():
    assert rows(forwarding({}, {MAC: 3}, {}, {})) == [(NUMBER, 3, 0)]


@pytest.mark.parametrize(
    ("index", "port"),
    [
        ((1, *MAC[:5]), 3),  # cut short
        ((1, 1, *MAC[1:]), 3),  # the address of a group
        ((1, 2, 0, 0, 0, 0, 256), 3),
        ((1, *MAC), 0),  # the bridge does not know where
        ((1, *MAC), 99),  # a port that the bridge does not list
        ((1, *MAC), b"3"),
    ],
)
def test_entries_that_lead_nowhere_are_left_out(index, port):
    assert len(forwarding({index: port}, {}, {3: 103}, {})) == 0


@given(st.lists(st.tuples(st.integers(1, 2**48 - 1), st.integers(1, 50), st.integers(0, 4094)), max_size=40))
def test_a_table_survives_being_stored_and_is_at_known_ports_only(entries):
    table = Forwarding.of(entries)
    again = Forwarding.of_packed(table.packed())
    assert np.array_equal(again.rows, table.rows) and again.rows.dtype == FORWARDING
    moved = again.at_ports({port: 1000 + port for port in range(1, 26)})
    assert sorted(rows(moved)) == sorted({(mac, 1000 + port, vlan) for mac, port, vlan in entries if port < 26})


def test_the_roles_of_ports_in_the_spanning_tree():
    own, other = bytes((0x80, 0, *MAC)), bytes((0x80, 0, 2, 0, 0, 0, 0, 1))
    assert bridge_id(own) == "32768 02:00:00:ab:cd:ef" and bridge_id(b"\x80") == "" and bridge_id(None) == ""
    states = {(1,): 5, (2,): 5, (3,): 2, (4,): 1, (5,): 3, (9,): 5}
    designated = {(1,): other, (2,): own, (3,): other, (4,): own, (5,): own}
    roles = port_roles(states, designated, mac_text(NUMBER), 1, {1: 101, 2: 102, 3: 103, 4: 104, 5: 105})
    assert roles == {
        101: Role.ROOT, 102: Role.DESIGNATED, 103: Role.ALTERNATE, 104: Role.DISABLED, 105: Role.DESIGNATED,
    }  # fmt: skip


def test_the_vlans_of_ports():
    assert ports_of(b"\x80\x01") == [1, 16] and ports_of(7) == []
    egress = {(0, 10): b"\xc0", (0, 20): b"\x40", (0, 5000): b"\xff"}
    vlans = port_vlans(egress, {(0, 10): b"\x80"}, {(1,): 10, (2,): 1}, {1: 101, 2: 102})
    assert vlans == {101: PortVlans(10, (), (10,)), 102: PortVlans(1, (10, 20), ())}


V6 = (2, 16, 0x20, 1, 0xD, 0xB8, *[0] * 11, 1)


def test_addresses_that_were_learnt_of_both_tables_and_both_families():
    octets = bytes(MAC)
    new = {(7, 1, 4, 192, 0, 2, 9): octets, (7, *V6): octets, (7, 1, 4, 224, 0, 0, 1): octets, (7, 1, 4, 1): octets}
    old = {(7, 192, 0, 2, 9): octets, (8, 192, 0, 2, 10): octets, (8, 192, 0, 2, 11): b""}
    mac = mac_text(NUMBER)
    assert bindings(new, old) == (
        Binding(7, "192.0.2.9", mac), Binding(7, "2001:db8::1", mac), Binding(8, "192.0.2.10", mac),
    )  # fmt: skip


def test_own_addresses_with_their_prefixes():
    new = {(1, 4, 192, 0, 2, 1): 3, V6: 4}
    row = (1, 3, 6, 1, 2, 1, 4, 32, 1, 5, 3, 1, 4, 192, 0, 2, 0, 24)
    told = own_addresses(new, {(1, 4, 192, 0, 2, 1): row, V6: (0, 0)}, {(10, 0, 0, 1): 1}, {})
    assert told == (OwnAddress(3, "192.0.2.1", 24), OwnAddress(4, "2001:db8::1", None))
    old = own_addresses({}, {}, {(10, 0, 0, 1): 1, (10, 1, 0, 1): 2}, {(10, 0, 0, 1): bytes((255, 255, 252, 0))})
    assert old == (OwnAddress(1, "10.0.0.1", 22), OwnAddress(2, "10.1.0.1", None))


def plan(size, dice, hosts=3):
    """A tree of bridges; what each of them hears; who owns which address; the links that there are."""
    edges = [(dice.randint(1, number - 1), 1000 + number, number, 2000 + number) for number in range(2, size + 1)]
    tree = span(range(1, size + 1), edges)
    stations = {each: [(each << 8, 3000 + each)] for each in range(1, size + 1)}
    for number in range(1, size * hosts):
        stations[dice.randint(1, size)].append((number << 20, 4000 + number))
    tables = hears(tree, stations)
    owners = {each << 8: (each, None) for each in range(1, size + 1)}
    truth = {frozenset((End(a, p), End(b, q))) for a, p, b, q in edges}
    return {each: [(mac, port, 0) for mac, port in table.items()] for each, table in tables.items()}, owners, truth


@given(st.integers(2, 12), st.integers(0, 10_000))
def test_bridges_that_hear_everything_give_all_their_links_and_no_other(size, seed):
    tables, owners, truth = plan(size, random.Random(seed))
    found = infer({each: Forwarding.of(table) for each, table in tables.items()}, owners)
    assert {frozenset((each.a, each.b)) for each in found} == truth


def test_bridges_that_heard_little_give_fewer_links_but_hardly_a_wrong_one():
    """Of 50 networks in which every fifth entry is missing, by numbers that are the same in every run."""
    right = wrong = there = 0
    for seed in range(50):
        dice = random.Random(seed)
        tables, owners, truth = plan(12, dice, hosts=6)
        heard = {each: Forwarding.of([row for row in table if dice.random() < 0.8]) for each, table in tables.items()}
        found = {frozenset((each.a, each.b)) for each in infer(heard, owners)}
        right, wrong, there = right + len(found & truth), wrong + len(found - truth), there + len(truth)
    assert right > 0.8 * there and wrong < 0.05 * there


def test_a_router_hangs_on_the_last_bridge_that_hears_it_by_its_own_port():
    edges = [(1, 11, 2, 21), (2, 22, 3, 31)]
    stations = {1: [(1 << 8, 90)], 2: [(2 << 8, 90)], 3: [(3 << 8, 90), (0xABC, 33)]}
    tables = hears(span([1, 2, 3], edges), stations)
    owners = {1 << 8: (1, None), 2 << 8: (2, None), 3 << 8: (3, None), 0xABC: (9, 901)}
    found = infer({each: Forwarding.of((m, p, 0) for m, p in table.items()) for each, table in tables.items()}, owners)
    assert End(9, 901) in {each.b for each in found} and len(found) == 3
    (router,) = [each for each in found if each.b.device == 9]
    assert router.a == End(3, 33) and router.shared == 1


def test_several_devices_at_one_port_are_told_as_such_and_known_ports_are_left_alone():
    table = Forwarding.of([(0xA, 5, 0), (0xB, 5, 0), (0xC, 6, 0)])
    owners = {0xA: (7, 71), 0xB: (8, 81), 0xC: (9, 91)}
    found = infer({1: table}, owners, taken={6})
    assert [(each.a, each.b, each.shared) for each in found] == [
        (End(1, 5), End(7, 71), 2), (End(1, 5), End(8, 81), 2),
    ]  # fmt: skip


def test_what_runs_over_what():
    stack = {(101, 1): 1, (1001, 5): 1, (1001, 6): 1, (0, 101): 1, (1, 0): 1, (102, 2): 2}
    assert carriers(stack) == {101: (1,), 1001: (5, 6)}
