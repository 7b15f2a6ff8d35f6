"""Recognising devices, and reading extra objects."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.conditions import understand
from lumtar.core.own_objects import check_object
from lumtar.core.profiles import (
    SYSTEM_FIELDS,
    Recognition,
    number_of,
    rate_of,
    recognise,
)


def profile(number, *prefixes, condition=""):
    return Recognition(number, f"profile {number}", prefixes, understand(condition, SYSTEM_FIELDS))


BOX = {"sys_object_id": "1.3.6.1.4.1.32473.1.12", "sys_descr": "FH-2100 access switch"}


def test_the_longest_prefix_wins():
    profiles = [
        profile(1, "1.3.6.1.4.1.32473"),
        profile(2, "1.3.6.1.4.1.32473.1.12"),
        profile(3, "1.3.6.1.4.1.32473.1"),
    ]
    found = recognise(BOX, profiles)
    assert found and found[0].number == 2
    assert found[1] == "sysObjectID 1.3.6.1.4.1.32473.1.12 lies under 1.3.6.1.4.1.32473.1.12"


def test_a_condition_narrows_a_prefix_or_stands_alone():
    narrowed = profile(1, "1.3.6.1.4.1.32473.1", condition='sys_descr like "*router*"')
    by_words = profile(2, condition='sys_descr like "*switch*"')
    found = recognise(BOX, [narrowed, by_words])
    assert found and found[0].number == 2 and found[1] == 'it meets sys_descr like "*switch*"'
    assert recognise(BOX, [by_words, profile(3, "1.3.6.1.4.1")])[0].number == 3
    assert recognise({"sys_object_id": "1.3.6.1.4.1.99"}, [by_words, narrowed]) is None


def test_a_profile_that_says_nothing_fits_nothing():
    assert recognise(BOX, [profile(1)]) is None
    assert recognise(BOX, [profile(1, "1.3.6.1.4.1.32473.1.1")]) is None


def test_of_equals_the_first_wins():
    assert recognise(BOX, [profile(5, "1.3.6.1"), profile(6, "1.3.6.1")])[0].number == 5


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"oid": "sysUpTime.0"}, "is not an object identifier"),
        ({"oid": "3.1.2"}, "is not an object identifier"),
        ({"oid": "1.40.1"}, "too large"),
        ({"oid": "1.3.4294967296"}, "too large"),
        ({"name": " "}, "1 to 80 characters"),
        ({"unit": "x" * 17}, "at most 16"),
        ({"scale": 0.0}, "A scale must be"),
        ({"scale": float("nan")}, "A scale must be"),
    ],
)
def test_a_wrong_object_is_refused(change, said):
    told = {
        "oid": "1.3.6.1.4.1.32473.2.1.0",
        "name": "Battery",
        "unit": "%",
        "scale": 1.0,
        "counts": False,
        "text": False,
    }
    assert check_object(**{**told, "oid": f".{told['oid']}"}).oid == told["oid"]
    with pytest.raises(ValueError, match=said):
        check_object(**{**told, **change})


@pytest.mark.parametrize(
    ("value", "text", "number"),
    [(5, False, 5.0), (-5, True, -5.0), (b"23.5 C", True, 23.5), (b"23.5", False, None), (b"warm", True, None)],
)
def test_the_number_in_an_answer(value, text, number):
    assert number_of(value, text) == number


@given(st.integers(0, 2**32 - 1), st.integers(0, 2**31), st.floats(1, 3600))
def test_a_32_bit_counter_may_wrap(before, counted, seconds):
    after = (before + counted) % 2**32
    assert rate_of(before, after, 32, seconds) == pytest.approx(counted / seconds)


def test_a_64_bit_counter_that_went_down_was_reset():
    assert rate_of(2.0**40, 5.0, 64, 60.0) is None
    assert rate_of(5.0, 6.0, 64, 0.0) is None
