"""Neighbours as LLDP tells of them, who they are, and the links that follow."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.own_tables import Restart, check_neighbour_table, check_restart
from lumtar.core.refusal import Refusal
from lumtar.core.topology import (
    End,
    Evidence,
    Identifier,
    Inventory,
    KnownDevice,
    KnownPort,
    Neighbour,
    Sighting,
    chassis_identifier,
    links,
    port_identifier,
)
from lumtar.core.topology.identifiers import IdKind
from lumtar.core.topology.lldp import OwnPort, Remotes, neighbours, own_neighbours

MAC = bytes.fromhex("020000abcdef")
ROW = (0, 3, 1)


@pytest.mark.parametrize(
    ("subtype", "octets", "value"),
    [
        (1, b"chassis 7", "chassis 7"),
        (2, b"to the depot", "to the depot"),
        (4, MAC, "02:00:00:ab:cd:ef"),
        (4, b"\x02\x00", "02:00"),
        (5, b"\x01\x7f\x40\x00\x01", "127.64.0.1"),
        (5, b"\x02" + bytes(15) + b"\x01", "::1"),
        (5, b"\x09\x00\x01", "09:00:01"),
        (6, b"g1\0", "g1"),
        (7, b"\xff\xfe\x00", "ff:fe:00"),
        (99, b"what", "what"),
    ],
)
def test_a_chassis_of_every_subtype(subtype, octets, value):
    assert chassis_identifier(subtype, octets).value == value


@given(st.integers(0, 300), st.binary(max_size=600))
def test_whatever_octets_are_given_are_an_identifier_that_can_be_shown(subtype, octets):
    for made in (chassis_identifier(subtype, octets), port_identifier(subtype, octets)):
        assert made.value.isprintable() and len(made.value) <= 800


def remotes(is_if_index=False, **more):
    row = {
        "chassis_kind": 4, "chassis": MAC, "port_kind": 5, "port": b"t4", "port_descr": b"core port t4",
        "sys_name": b"cen-core-1", "sys_descr": b"Core, software 4.2.1", **more,
    }  # fmt: skip
    index = (0, 3, 1, 1) if is_if_index else ROW
    return Remotes(**{name: {index: value} for name, value in row.items()}, is_if_index=is_if_index)


OWN = [OwnPort(25, "x1", "acc port x1", "Uplink", "02:00:00:00:00:19"), OwnPort(3, "g3", "acc port g3")]


def test_a_row_becomes_a_neighbour_at_the_port_that_the_agent_names():
    (found,) = neighbours(remotes(), [(*ROW, 1, 4, 127, 64, 0, 1)], {(3,): 5}, {(3,): b"x1"}, OWN)
    assert found == Neighbour(
        25, "x1", Identifier(IdKind.MAC, "02:00:00:ab:cd:ef"), Identifier(IdKind.NAME, "t4"),
        "core port t4", "cen-core-1", "Core, software 4.2.1", ("127.64.0.1",),
    )  # fmt: skip


@pytest.mark.parametrize(
    ("kind", "octets", "if_index", "local"),
    [
        (3, bytes.fromhex("020000000019"), 25, "x1"),
        (1, b"Uplink", 25, "x1"),
        (7, b"25", 25, "x1"),
        (5, b"acc port x1", 25, "x1"),
        (5, b"nothing like it", 3, "g3"),
        (None, None, 3, "g3"),
    ],
)
def test_which_interface_a_local_port_is(kind, octets, if_index, local):
    (found,) = neighbours(remotes(), [], {(3,): kind}, {(3,): octets}, OWN)
    assert (found.if_index, found.local_port) == (if_index, local)


def test_a_port_that_is_no_interface_keeps_its_name():
    (found,) = neighbours(remotes(), [], {(3,): 5}, {(3,): b"mgmt"}, OWN[:1])
    assert (found.if_index, found.local_port) == (None, "mgmt")


def test_the_later_mib_gives_the_interface_itself():
    (found,) = neighbours(remotes(is_if_index=True), [(0, 3, 1, 1, 1, 4, 127, 64, 0, 1)], {}, {}, OWN)
    assert (found.if_index, found.local_port, found.addresses) == (3, "g3", ("127.64.0.1",))


def test_rows_that_were_half_there_and_addresses_that_are_none_are_left_out():
    assert neighbours(remotes(port=7), [], {}, {}, OWN) == []
    addresses = [(*ROW, 1, 4, 127, 64, 0), (*ROW, 1, 4, 127, 64, 0, 999), (*ROW, 6, 2, 1, 2), ROW]
    (found,) = neighbours(remotes(), addresses, {}, {}, OWN)
    assert found.addresses == ()


DEVICES = [
    KnownDevice(1, "cen-core-1", "cen-core-1.county.example", ("127.64.0.1",), ("02:00:00:ab:cd:ef",)),
    KnownDevice(2, "cen-acc-1", "cen-acc-1", ("127.64.0.2",)),
    KnownDevice(3, "twin", "same-name", ("127.64.0.3",)),
    KnownDevice(4, "twin-2", "same-name", ("127.64.0.4",)),
]
PORTS = [
    KnownPort(11, 1, 1, "t1", "core port t1", "To cen-fw-1"),
    KnownPort(14, 1, 4, "t4", "core port t4", "To cen-acc-1", "02:00:00:00:00:04"),
    KnownPort(21, 2, 49, "x1", "acc port x1", "Uplink"),
]
INVENTORY = Inventory.of(DEVICES, PORTS)


def seen(chassis=("MAC address", "02:00:00:ab:cd:ef"), port=("ifName", "t4"), **more):
    return Neighbour(1, "x1", Identifier(IdKind(chassis[0]), chassis[1]), Identifier(IdKind(port[0]), port[1]), **more)


@pytest.mark.parametrize(
    ("neighbour", "device", "port"),
    [
        (seen(), 1, 14),
        (seen(chassis=("network address", "127.64.0.1")), 1, 14),
        (seen(chassis=("locally assigned", "cen-core-1")), 1, 14),
        (seen(chassis=("MAC address", "02:99:99:99:99:99"), sys_name="CEN-CORE-1"), 1, 14),
        (seen(chassis=("MAC address", "02:99:99:99:99:99"), addresses=("127.64.0.2",), port=("ifName", "x1")), 2, 21),
        (seen(chassis=("MAC address", "02:00:00:00:00:04")), 1, 14),
        (seen(chassis=("component", "x"), sys_name="cen-acc-1.elsewhere.example", port=("ifAlias", "Uplink")), 2, 21),
        (seen(port=("MAC address", "02:00:00:00:00:04")), 1, 14),
        (seen(port=("locally assigned", "4")), 1, 14),
        (seen(port=("locally assigned", "nothing"), port_descr="core port t4"), 1, 14),
        (seen(port=("ifName", "t99")), 1, None),
        (seen(chassis=("MAC address", "02:99:99:99:99:99")), None, None),
    ],
)
def test_a_neighbour_is_found_by_whatever_it_says(neighbour, device, port):
    match = INVENTORY.find(neighbour)
    assert (match.device, match.port) == (device, port), match.reason


def test_a_name_that_two_devices_have_decides_nothing():
    match = INVENTORY.find(seen(chassis=("component", "x"), sys_name="same-name"))
    assert match.device is None and match.reason == "several devices have the name same-name: twin, twin-2"


def sighting(key, here, there):
    return Sighting(key, End(*here), End(*there))


def test_what_both_ends_say_is_one_link():
    (link,) = links([sighting(1, (1, 14), (2, 21)), sighting(2, (2, 21), (1, 14))])
    assert (link.evidence, link.a, link.b, link.sightings) == (Evidence.BOTH_ENDS, End(1, 14), End(2, 21), (1, 2))


def test_each_end_knows_its_own_port_though_neither_names_the_others():
    (link,) = links([sighting(1, (1, 14), (2, None)), sighting(2, (2, 21), (1, None))])
    assert (link.evidence, link.a, link.b) == (Evidence.BOTH_ENDS, End(1, 14), End(2, 21))
    (link,) = links([sighting(1, (1, 14), (2, 21)), sighting(2, (2, 21), (1, None))])
    assert link.evidence is Evidence.BOTH_ENDS


def test_of_two_links_between_two_devices_neither_is_guessed():
    found = links(
        [
            sighting(1, (1, 14), (2, None)),
            sighting(2, (1, 15), (2, None)),
            sighting(3, (2, 21), (1, None)),
            sighting(4, (2, 22), (1, None)),
        ]
    )
    assert [link.evidence for link in found] == [Evidence.ONE_END] * 4


def test_a_neighbour_that_only_one_end_sees_and_one_that_says_otherwise():
    (alone,) = links([sighting(1, (1, 14), (2, 21))])
    assert (alone.evidence, alone.contradiction) == (Evidence.ONE_END, "")
    first, second = links([sighting(1, (1, 14), (2, 21)), sighting(2, (2, 21), (3, 30))])
    assert first.contradiction == "the other port sees another neighbour" and not second.contradiction


def test_a_neighbour_of_itself_is_told_as_such():
    (link,) = links([sighting(1, (1, 14), (1, 11)), sighting(2, (1, 11), (1, 14))])
    assert link.evidence is Evidence.ITSELF
    (link,) = links([sighting(1, (1, 14), (1, 14))])
    assert link.evidence is Evidence.ITSELF


def test_what_is_told_twice_is_one_link_that_holds_both():
    (link,) = links([sighting(1, (1, 14), (1, 11)), sighting(2, (1, 14), (1, 11)), sighting(3, (1, 11), (1, 14))])
    assert (link.evidence, link.sightings) == (Evidence.ITSELF, (1, 2, 3))
    (link,) = links([sighting(1, (1, 14), (2, 21)), sighting(2, (1, 14), (2, 21)), sighting(3, (2, 21), (1, 14))])
    assert (link.evidence, link.sightings) == (Evidence.BOTH_ENDS, (1, 2, 3))


def test_a_link_by_hand_adds_to_what_was_seen_or_stands_alone():
    seen_ = [sighting(1, (1, 14), (2, None))]
    (link,) = links(seen_, [sighting(7, (2, 21), (1, 14))])
    assert (link.evidence, link.b, link.sightings, link.entered) == (Evidence.ONE_END, End(2, 21), (1,), 7)
    first, second = links(seen_, [sighting(7, (1, 15), (2, 22))])
    assert (first.entered, second.evidence, second.entered, second.contradiction) == (None, Evidence.BY_HAND, 7, "")


def test_a_link_by_hand_that_a_port_contradicts_says_so():
    _, by_hand = links([sighting(1, (1, 14), (2, 21))], [sighting(7, (3, 30), (1, 14))])
    assert by_hand.contradiction == "one of its ports sees another neighbour"


def test_two_links_by_hand_do_not_become_one():
    found = links([sighting(1, (1, None), (2, None))], [sighting(7, (1, 14), (2, 21)), sighting(8, (1, 15), (2, 22))])
    assert [link.entered for link in found] == [7, 8] and len(found) == 2


@given(st.lists(st.tuples(st.integers(1, 4), st.integers(1, 4), st.integers(1, 4), st.integers(0, 4)), max_size=14))
def test_every_sighting_belongs_to_one_link(made):
    given_ = [
        sighting(key, (device, 10 * device + port), (there, 10 * there + other if other else None))
        for key, (device, port, there, other) in enumerate(made)
    ]
    keys = [key for link in links(given_) for key in link.sightings]
    assert sorted(keys) == sorted(range(len(made)))
    assert links(given_) == links(list(reversed(given_))), "whatever order they come in"


@given(st.integers(2, 30), st.randoms(use_true_random=False))
def test_a_network_whose_truth_is_known_is_found_whole_without_a_false_link(devices, dice):
    """Every cable of a random network that both or one of its ends tells of, with or without the other's port."""
    cables, next_port = [], dict.fromkeys(range(devices), 0)
    for device in range(1, devices):
        ends = []
        for each in (device, dice.randrange(device)):
            next_port[each] += 1
            ends.append(End(each, 100 * each + next_port[each]))
        cables.append(frozenset(ends))
    given_ = []
    for cable in cables:
        a, b = sorted(cable, key=lambda end: end.device)
        for here, there in dice.choice([[(a, b)], [(b, a)], [(a, b), (b, a)]]):
            given_.append(Sighting(len(given_), here, there))
    found = links(given_)
    assert len(found) == len(cables) and {frozenset((link.a, link.b)) for link in found} == set(cables)


def test_a_table_of_a_makers_own_tells_of_neighbours():
    names = {(25, 1): b"tb-40", (3, 2): b"", (99, 1): b"far", (): b"cut"}
    ports = {(25, 1): b"lan1"}
    addresses = {(25, 1): bytes((192, 0, 2, 1)), (99, 1): b"2001:DB8::1"}
    near, far = own_neighbours(names, ports, addresses, 1, OWN)
    assert (near.if_index, near.local_port, near.sys_name, near.port.value, near.addresses) == (
        25, "x1", "tb-40", "lan1", ("192.0.2.1",),
    )  # fmt: skip
    assert (far.if_index, far.local_port, far.addresses) == (None, "99", ("2001:db8::1",))
    ((second),) = own_neighbours({(7, 25): b"tb-40"}, {}, {(7, 25): b"nowhere"}, 2, OWN)
    assert (second.if_index, second.port.value, second.addresses) == (25, "", ())


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({"name": "1.3.6.1"}, "needs the columns"),
        ({"name": "1.3.6.1", "port": "port"}, "is not an object identifier"),
        ({"name": "1.3.6.1", "port": "1.3.6.2", "if_index_at": 99}, "sixteenth"),
    ],
)
def test_what_is_no_table_of_neighbours(given, words):
    with pytest.raises(Refusal, match=words):
        check_neighbour_table(given)


def test_how_a_device_is_restarted():
    assert check_neighbour_table({}) is None and check_restart({}) is None
    assert check_restart({"oid": "1.3.6.1.4.1.32473.3.1.0", "value": 1}) == Restart("1.3.6.1.4.1.32473.3.1.0", 1)
    for value in ("1", 2**40, None):
        with pytest.raises(Refusal):
            check_restart({"oid": "1.3.6.1.4.1.32473.3.1.0", "value": value})
