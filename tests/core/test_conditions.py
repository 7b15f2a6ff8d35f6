"""Conditions that people write: what they mean, and what is said of wrong ones."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.conditions import ConditionError, Field, Kind, understand

FIELDS = (
    Field("label", Kind.TEXT, ""),
    Field("speed", Kind.NUMBER, ""),
    Field("sys_object_id", Kind.OID, ""),
    Field("address", Kind.ADDRESS, ""),
    Field("answered", Kind.WORDS, ""),
)
PORT = {
    "label": "Uplink to dep-core-1",
    "speed": 10e9,
    "sys_object_id": "1.3.6.1.4.1.32473.1.12",
    "address": "10.20.3.4",
    "answered": {"icmp", "snmp"},
}


@pytest.mark.parametrize(
    ("text", "holds"),
    [
        ("", True),
        ('label like "uplink*"', True),
        ('label like ("To *", "Uplink to ???-core-?")', True),
        ('label like "Uplink"', False),
        ('label is "UPLINK to dep-core-1"', True),
        ('label is not "x"', True),
        ("speed >= 10G", True),
        ("speed > 10G", False),
        ("speed = 10000M", True),
        ("speed < 2.5T and not speed < 1k", True),
        ("sys_object_id under 1.3.6.1.4.1.32473", True),
        ("sys_object_id under 1.3.6.1.4.1.32473.1.1", False),
        ("sys_object_id is .1.3.6.1.4.1.32473.1.12", True),
        ("address in 10.20.0.0/16", True),
        ("address in (2001:db8::/32, 10.21.0.0/16)", False),
        ("address is 10.20.3.4", True),
        ("answered has snmp", True),
        ("answered has (tcp, icmp)", True),
        ("not answered has tcp", True),
        ('label is "x" or speed > 1G and address in 10.0.0.0/8', True),
        ('(label is "x" or speed > 1G) and address in 11.0.0.0/8', False),
        ('label like "and" or label like "*or*"', True),
    ],
)
def test_what_a_condition_means(text, holds):
    assert understand(text, FIELDS)(PORT) is holds


def test_of_several_addresses_one_must_fit():
    within = understand("address in 10.20.0.0/16", FIELDS)
    assert within({"address": ["192.0.2.1", "10.20.0.1"]}) and not within({"address": ["192.0.2.1", "no address"]})


def test_what_is_missing_is_empty():
    for text in ('label like "a*"', "speed >= 0", "sys_object_id under 1", "address in ::/0", "answered has snmp"):
        assert understand(text, FIELDS)({}) is False
    assert understand('label is ""', FIELDS)({})


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("lable is x", "“lable” (character 1) is no field; there are label, speed"),
        ("label under x", "it takes is, like, not “under” (character 7)"),
        ("label is", "It ends where a value should stand."),
        ("label", "It ends where a verb should stand."),
        ('label is "x', "The quotation mark at character 10 has no end."),
        ('label is "x" label is "y"', "“and” or “or” should stand before “label” (character 14)."),
        ('(label is "x"', "An opening parenthesis has no closing one."),
        ('label is ("x", "y"', "A list of values has no closing parenthesis."),
        ("speed > fast", "write it like 100M or 2.5G, not “fast”"),
        ("sys_object_id under enterprise", "is an object identifier"),
        ("address in 10.20.0.0/99", "neither an address nor a prefix"),
        ("address is 10.20.0.0/16", "write “address in 10.20.0.0/16”"),
        ("label is and", "A value should stand before “and”"),
        ("not " * 30 + "label is x", "20 levels deep"),
        ("label is x or " * 90 + "label is x", "at most 1,000 characters"),
    ],
)
def test_a_wrong_condition_says_what_and_where(text, said):
    with pytest.raises(ConditionError) as refused:
        understand(text, FIELDS)
    assert said in str(refused.value)


@given(st.text(alphabet='labelspdiknotr "()<>=,*?0123456789.GM', max_size=80))
def test_junk_is_refused_in_words_or_understood(text):
    try:
        assert understand(text, FIELDS)(PORT) in (True, False)
    except ConditionError as refused:
        assert str(refused).endswith(".")


@given(st.text(max_size=60).filter(lambda text: '"' not in text))
def test_a_name_is_found_as_it_is_written(name):
    assert understand(f'label is "{name}"', FIELDS)({"label": name})
