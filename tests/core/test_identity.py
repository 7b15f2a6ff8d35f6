"""Whether two answers come from one box."""

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.identity import Identity, Known, find, same

BOX = Identity(
    "10.0.0.1", "AB12CD34", "Fernhall", "80007ed904", "02:00:00:00:00:01", "alw-acc-1", "1.3.6.1.4.1.32473.1.12"
)


def test_the_surest_sign_that_both_give_decides():
    other = replace(BOX, address="10.0.0.2")
    assert same(BOX, other) == "the same serial number, AB12CD34"
    assert same(replace(BOX, serial=""), other) == "the same SNMP engine id, 80007ed904"
    assert same(replace(BOX, serial="", engine_id=""), other) == "the same base MAC address, 02:00:00:00:00:01"
    bare = replace(BOX, serial="", engine_id="", mac="")
    assert same(bare, other) == "the same sysName, alw-acc-1, and kind (sysObjectID)"


def test_two_serial_numbers_are_two_boxes_whatever_else_they_share():
    assert same(BOX, replace(BOX, serial="XY98ZW76")) == ""
    assert same(BOX, replace(BOX, maker="Tarnbeck")) == ""


def test_what_some_boxes_say_for_a_serial_number_is_none():
    for nothing in ("None", "n/a", "0000000", "12", ""):
        assert same(replace(BOX, serial=nothing), replace(BOX, serial=nothing)).startswith("the same SNMP engine id")


def test_where_nothing_else_is_shared_the_address_decides():
    assert same(Identity("10.0.0.1"), Identity("10.0.0.1")) == "the same address, 10.0.0.1"
    assert same(Identity("10.0.0.1"), Identity("10.0.0.9", more=frozenset({"10.0.0.1"}))) != ""
    assert same(Identity("10.0.0.1"), Identity("10.0.0.2")) == ""
    assert same(Identity("10.0.0.1"), BOX) == "the same address, 10.0.0.1"


def test_the_first_that_is_the_same_is_found():
    known = [(1, Identity("10.0.0.9", "other-1")), (2, BOX)]
    assert find(replace(BOX, address="10.0.0.3"), known) == (2, "the same serial number, AB12CD34")
    assert find(Identity("10.0.0.77"), known) is None


BOXES = st.builds(
    Identity,
    address=st.sampled_from(["10.0.0.1", "10.0.0.2", "10.0.0.3"]),
    serial=st.sampled_from(["", "SER-1", "SER-2"]),
    engine_id=st.sampled_from(["", "80aa", "80bb"]),
    mac=st.sampled_from(["", "02:00:00:00:00:01"]),
    sys_name=st.sampled_from(["", "sw-1", "SW-1"]),
    sys_object_id=st.sampled_from(["", "1.3.6"]),
)


@given(st.lists(BOXES, max_size=8), BOXES)
def test_looking_up_finds_what_comparing_each_with_each_finds(boxes, wanted):
    known = Known()
    for number, box in enumerate(boxes):
        known.add(number, box)
    found, compared = known.find(wanted), find(wanted, enumerate(boxes))
    assert (found is None) == (compared is None)
    assert found is None or same(wanted, boxes[found[0]]) == found[1]


@given(BOXES, BOXES)
def test_being_one_box_does_not_depend_on_who_is_asked(one, other):
    assert bool(same(one, other)) == bool(same(other, one))


def test_what_is_learnt_of_a_box_later_is_known():
    known = Known()
    known.add(1, Identity("10.0.0.1"))
    assert known.find(Identity("10.0.0.9", engine_id="80aa")) is None
    known.add(1, Identity("10.0.0.1", engine_id="80aa", more=frozenset({"10.0.0.5"})))
    assert known.find(Identity("10.0.0.9", engine_id="80aa")) == (1, "the same SNMP engine id, 80aa")
    assert known.find(Identity("10.0.0.5")) == (1, "the same address, 10.0.0.5")
