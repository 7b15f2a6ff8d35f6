"""Texts that people write for messages."""

import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.refusal import Refusal
from lumtar.domain.calling.templates import LONGEST_RESULT, check, fill

ALARM = {"label": "hex-wan-1", "severity": "major", "site": "", "text": "94 % full"}
VALUES = {"alarm": ALARM, "contact": "anna", "step": 1, "link": ""}


@pytest.mark.parametrize(
    ("text", "filled"),
    [
        ("{{ alarm.label|upper }} {{ step }}", "HEX-WAN-1 1"),
        ('{% if alarm.severity == "major" %}!{% else %}.{% endif %}', "!"),
        ('{{ alarm.site|default("nowhere", true) }}', "nowhere"),
        ("{{ alarm.label ~ '/' ~ contact }}", "hex-wan-1/anna"),
        ("no variables", "no variables"),
    ],
)
def test_a_text_is_filled(text, filled):
    assert fill(text, VALUES) == filled


@pytest.mark.parametrize(
    "text",
    [
        "{{ alarm.__class__ }}",
        "{{ alarm.label.__class__.__mro__ }}",
        "{{ ''.join(contact) }}",
        "{{ range(10**9) }}",
        "{{ 'x' * 10**9 }}",
        "{{ '%1000000000d' % 1 }}",
        "{{ alarm.label|center(1000000000) }}",
        "{% set a = 'x' %}",
        "{% for a in alarm.label %}{% for b in alarm.label %}{% endfor %}{% endfor %}",
        "{% macro m() %}{{ m() }}{% endmacro %}",
        "{% include 'settings.py' %}",
        "{% import 'x' as y %}",
        "{{ self }}{{ cycler() }}",
        "{{ alarm[contact] }}",
        "{{ secret }}",
        "{{ alarm.community }}",
        "{% if %}",
        "{{ alarm.label",
        "x" * 5000,
    ],
)
def test_what_could_hang_grow_or_reach_out_is_refused_in_words(text):
    began = time.monotonic()
    with pytest.raises(Refusal):
        fill(text, VALUES)
    assert time.monotonic() - began < 1


@given(st.text(alphabet="{}%|~ .'\"abcefilnrstu_()[]0159*+", max_size=120))
def test_whatever_is_written_is_filled_or_refused(text):
    try:
        assert len(fill(text, VALUES)) <= LONGEST_RESULT
    except Refusal as error:
        assert error.sentence


def test_checking_says_the_line():
    with pytest.raises(Refusal, match="line 2"):
        check("fine\n{% endif %}")
