"""What is done with what a sweep found."""

import pytest

from lumtar.core.admission import FOUND_FIELDS, Admission, Outcome, admit
from lumtar.core.conditions import understand

FOUND = {
    "address": ["10.20.0.7", "192.0.2.1"],
    "answered": {"snmp"},
    "sys_descr": "FH-2100 access switch",
    "sys_object_id": "1.3.6.1.4.1.32473.1.12",
    "maker": "Fernhall Systems",
    "sweep": "New branches",
}


def rule(number, condition, outcome=Outcome.ADD):
    return Admission(number, f"rule {number}", understand(condition, FOUND_FIELDS), outcome)


@pytest.mark.parametrize(
    "condition",
    [
        "",
        "address in 10.20.0.0/24",
        "address is 192.0.2.1",
        "answered has snmp and not answered has icmp",
        'sys_descr like "*switch*" and sys_object_id under 1.3.6.1.4.1.32473',
        'maker like "fernhall*" and sweep is "new branches"',
    ],
)
def test_a_rule_can_ask_for_all_that_was_found(condition):
    assert admit(FOUND, [rule(1, condition)]).number == 1


def test_the_first_rule_that_holds_decides_and_without_one_a_person_does():
    rules = [rule(1, "answered has tcp"), rule(2, "answered has snmp", Outcome.IGNORE), rule(3, "")]
    assert (admit(FOUND, rules).number, admit(FOUND, rules).outcome) == (2, Outcome.IGNORE)
    assert admit(FOUND, rules[:1]) is None
    assert admit({}, rules).number == 3
