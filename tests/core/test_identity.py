"""Whether two answers come from one box."""

from dataclasses import replace

from lumtar.core.identity import Identity, find, same

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
