"""Lists of controllers: which rows are taken, what is said of others, and profiles that cannot be."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.alarms.severity import Severity
from lumtar.core.controllers import (
    ALARM,
    DEVICE,
    KINDS,
    MOST_COMPLAINTS,
    TUNNEL,
    Listing,
    SignIn,
    check_listing,
    check_sign_in,
    is_active,
    read_rows,
    severity_of,
)
from lumtar.core.refusal import Refusal

FIELDS = {"name": "$.name", "address": "$.ip"}


def test_rows_have_every_field_as_text_on_one_line():
    given_rows = [{"name": "hex-wan-1", "address": "192.0.2.1", "serial": 4711.0, "state": True, "site": ["Hexwater"]}]
    told = read_rows(DEVICE, given_rows)
    assert not told.wrong
    assert told.rows == [
        {
            "id": "hex-wan-1",
            "name": "hex-wan-1",
            "address": "192.0.2.1",
            "serial": "4711",
            "model": "",
            "site": "",
            "state": "true",
        }
    ]
    (row,) = read_rows(DEVICE, [{"name": "a\n\x00 b  c", "address": "x" * 999}]).rows
    assert row["name"] == "a b c" and len(row["address"]) == 300


def test_what_lacks_something_or_comes_twice_is_left_out_and_told_of():
    told = read_rows(
        TUNNEL,
        [
            {"id": "1", "name": "one", "device": "a", "peer": "b"},
            {"id": "1", "name": "another", "device": "a", "peer": "b"},
            {"id": "2", "name": "two", "device": "a"},
            {},
        ],
    )
    assert [row["name"] for row in told.rows] == ["one"]
    assert told.wrong == [
        "Row 2 has the identifier 1 of another one.",
        "Row 3 (2) has no device at the other end.",
        "Row 4 has no name.",
    ]
    many = read_rows(DEVICE, [{}] * 500)
    assert len(many.wrong) == MOST_COMPLAINTS + 1 and many.wrong[-1] == "And 480 more."


@given(st.lists(st.dictionaries(st.sampled_from(["id", "name", "address", "x"]), st.none() | st.text() | st.floats() | st.lists(st.text())), max_size=8))  # fmt: skip
def test_whatever_is_told_gives_rows_that_can_be_kept(found):
    told = read_rows(DEVICE, found)
    keys = [row["id"] for row in told.rows]
    assert len(set(keys)) == len(keys) and len(told.rows) + len(told.wrong) == len(found)
    assert all(value.isprintable() and len(value) <= 300 for row in told.rows for value in row.values())
    assert all(row["id"] and row["name"] and row["address"] for row in told.rows)


@pytest.mark.parametrize(
    ("state", "up", "is_up"),
    [
        ("Online", (), True),
        ("degraded", (), False),
        ("3", ("3", "4"), True),
        ("online", ("3",), False),
        (" ", (), None),
    ],
)
def test_which_states_are_well(state, up, is_up):
    assert Listing("/x", "$[*]", FIELDS, up=up).is_up(state) is is_up


def test_severities_and_whether_an_alarm_stands():
    words = {
        "Critical": Severity.CRITICAL,
        "high": Severity.MAJOR,
        "info": Severity.INDETERMINATE,
        "17": Severity.WARNING,
    }
    assert {word: severity_of({"severity": word}) for word in words} == words
    assert [is_active({"cleared": word}) for word in ("", "false", "null", "2026-11-20T10:00:00Z", "true")] == [
        True, True, True, False, False,
    ]  # fmt: skip
    assert KINDS["alarm"] is ALARM and ALARM.title == "text"


def test_a_listing_as_it_is_kept():
    kept = check_listing(
        DEVICE, Listing(" /api/edges ", " $.items[*] ", {"address": " $.ip ", "name": "$.name", "site": " "}, up=("Up", "up"))
    )  # fmt: skip
    assert kept == Listing("/api/edges", "$.items[*]", {"name": "$.name", "address": "$.ip"}, "", ("up",))


@pytest.mark.parametrize(
    ("listing", "words"),
    [
        (Listing("api", "$", FIELDS), "a path such as /api/devices"),
        (Listing("//elsewhere.example/x", "$", FIELDS), "a path such as"),
        (Listing("/api", "$", {"name": "$.name"}), "address for SNMP"),
        (Listing("/api", "$", {**FIELDS, "colour": "$.c"}), "no field colour"),
    ],
)
def test_listings_that_are_refused(listing, words):
    with pytest.raises(Refusal, match=words):
        check_listing(DEVICE, listing)


@pytest.mark.parametrize(
    ("sign_in", "words"),
    [
        (SignIn("magic"), "one of: none, basic"),
        (SignIn("header"), "in which header"),
        (SignIn("header", "X-Key: 1\r\nHost"), "letters, digits and hyphens"),
        (SignIn("session", path="session"), "where one signs in"),
        (SignIn("none", user_field="u" * 999), "up to 300 letters"),
    ],
)
def test_ways_to_sign_in_that_are_refused(sign_in, words):
    with pytest.raises(Refusal, match=words):
        check_sign_in(sign_in)
