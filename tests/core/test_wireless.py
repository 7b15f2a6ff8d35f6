"""Access points and wireless clients in tables of makers' own, and the columns that a profile names."""

import pytest

from lumtar.core.own_tables import WirelessTables, check_wireless_tables
from lumtar.core.refusal import Refusal
from lumtar.core.topology.wireless import AccessPoint, Client, access_points, clients

MAC = b"\x02\x01\x00\x00\x00\x09"
POINTS = [AccessPoint("1", "Reading room", "02:00:00:00:00:01"), AccessPoint("2.5", "AP-two", "02:00:00:00:00:02")]


def test_access_points_by_whatever_columns_their_maker_has():
    columns = {
        "name": {(1,): b"Reading room", (2,): b"Desk", (3,): b""},
        "mac": {(1,): MAC, (2,): b"02-01-00-00-00-0A", (3,): b"nonsense"},
        "address": {(1,): b"\x0a\0\0\x09", (2,): b"2001:db8::9", (3,): b"\0\0\0\0"},
        "model": {(1,): b"A4"},
        "state": {(1,): 1, (2,): 7},
    }
    assert access_points(columns, up=1) == [
        AccessPoint("1", "Reading room", "02:01:00:00:00:09", "10.0.0.9", "A4", True),
        AccessPoint("2", "Desk", "02:01:00:00:00:0a", "2001:db8::9", "", False),
        AccessPoint("3", "3", "", "", "", None),
    ]
    assert access_points({"name": {(1,): b"only a name"}}, up=1) == [AccessPoint("1", "only a name")]


@pytest.mark.parametrize(
    ("said", "point"),
    [
        (1, "1"),
        (b"reading ROOM", "1"),
        (b"\x02\x00\x00\x00\x00\x02", "2.5"),
        (b"02:00:00:00:00:02", "2.5"),
        (b"AP-two", "2.5"),
        (99, ""),
        (b"nobody", ""),
    ],
)
def test_a_row_names_its_access_point_by_index_name_or_mac_address(said, point):
    index = (5, *MAC)
    columns = {"network": {index: b"Public"}, "point": {index: said}}
    assert clients(columns, POINTS) == [Client("02:01:00:00:00:09", point, "Public")]


def test_a_row_without_that_column_begins_with_its_access_point():
    columns = {"network": {(2, 5, *MAC): b"Public", (9, *MAC[:5], 0x0B): b"Staff"}}
    assert clients(columns, POINTS) == [
        Client("02:01:00:00:00:09", "2.5", "Public"),
        Client("02:01:00:00:00:0b", "", "Staff"),
    ]


def test_signals_and_addresses_that_cannot_be_are_absent():
    index = (1,)
    columns = {"network": {index: b"Public"}, "mac": {index: MAC}, "signal": {index: 55}, "address": {index: b"x"}}
    assert clients(columns, ()) == [Client("02:01:00:00:00:09", "", "Public", "", None)]
    columns["signal"] = {index: -67}
    assert clients(columns, ())[0].signal_dbm == -67


def test_a_row_that_is_no_client_is_left_out():
    assert clients({"network": {(1, 2, 3): b"Public", (1, 300, 0, 0, 0, 0, 1): b"Public"}}, POINTS) == []
    assert clients({"network": {(1,): b"Public"}, "mac": {}}, POINTS) == [], "it went away while the table was read"


def test_what_a_profile_says_of_them():
    wanted = check_wireless_tables(
        {"point_name": "1.3.6.1.4.1.32473.4.1.2", "client_network": ".1.3.6.1.4.1.32473.4.2.3"}
    )
    assert wanted == WirelessTables("1.3.6.1.4.1.32473.4.1.2", client_network="1.3.6.1.4.1.32473.4.2.3")
    assert wanted.columns("client") == {"network": "1.3.6.1.4.1.32473.4.2.3"}
    assert wanted.columns("point") == {"name": "1.3.6.1.4.1.32473.4.1.2"}
    assert check_wireless_tables({}) is None and check_wireless_tables({"point_up": 5}) is None


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({"point_mac": "1.3.6.1"}, "column of their names"),
        ({"client_mac": "1.3.6.1"}, "column of the network"),
        ({"point_name": "one"}, "not an object identifier"),
        ({"point_name": "1.3.6.1", "point_up": 2**40}, "32 bits"),
        ({"point_name": "1.3.6.1", "colour": "blue"}, "no column colour"),
    ],
)
def test_what_cannot_be_read_is_refused(given, words):
    with pytest.raises(Refusal, match=words):
        check_wireless_tables(given)
