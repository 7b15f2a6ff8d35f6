"""What ports are called and are for."""

import pytest

from lumtar.core.conditions import understand
from lumtar.core.labels import PORT_FIELDS, USUAL, LabelRule, Own, check_template, decide, fill, weigh


def port(index, alias="", name="", descr="", **more):
    return {"index": str(index), "alias": alias, "name": name, "descr": descr, "mac": "", **more}


def rule(number, condition, **more):
    return LabelRule(number, f"rule {number}", understand(condition, PORT_FIELDS), **more)


@pytest.mark.parametrize(
    ("template", "label"),
    [
        ("{alias}", "Reading room"),
        ("{name}: {alias}", "g1: Reading room"),
        ("{descr|name}", "g1"),
        (USUAL, "Reading room"),
        ("{descr}", "port 1"),
        ("{index}", "1"),
        ("{descr|index}", "port 1"),
    ],
)
def test_a_template_is_filled_from_what_the_port_says(template, label):
    assert fill(check_template(template), port(1, "Reading room", "g1")) == label


@pytest.mark.parametrize(
    ("template", "said"),
    [
        ("", "holds at least one of {alias}"),
        ("port", "holds at least one of"),
        ("{alias", "no partner"),
        ("{ifAlias}", "“ifAlias” is nothing that a port says"),
        ("{alias|}", "“” is nothing"),
        ("{name}" * 30, "at most 120"),
    ],
)
def test_a_wrong_template_is_refused(template, said):
    with pytest.raises(ValueError, match=r"template|port says") as refused:
        check_template(template)
    assert said in str(refused.value)


def test_the_source_that_tells_ports_apart_is_proposed():
    by_alias = [port(1, "Desk", "g1", "port"), port(2, "Printer", "g2", "port")]
    assert weigh(by_alias)[0].template == "{alias}"
    by_descr = [port(1, "", "1", "Reading room"), port(2, "", "1", "Desk")]
    assert weigh(by_descr)[0].labels == ["Reading room", "Desk"]
    half = [port(1, "Desk", "g1"), port(2, "", "g2")]
    assert weigh(half)[0].template == "{alias|name}"
    twice = [port(1, "Desk", "g1"), port(2, "Desk", "g2"), port(3, "", "g3")]
    best = weigh(twice)[0]
    assert best.template == "{name} {alias}" and best.labels == ["g1 Desk", "g2 Desk", "g3"]
    router = [port(1, "", "wan1", "Transport A"), port(2, "", "wan2", "Transport B"), port(3, "", "lan1", "")]
    assert (weigh(router)[0].template, weigh(router)[0].labels[2]) == ("{descr|name}", "lan1")
    mute = [port(1), port(2)]
    assert weigh(mute)[0].template == "{name} ({index})"


def test_candidates_say_how_many_they_name_and_tell_apart():
    found = {each.template: each for each in weigh([port(1, "Desk"), port(2, "Desk"), port(3)], also=["{mac}"])}
    assert (found["{alias}"].named, found["{alias}"].apart) == (2, 0)
    assert (found["{mac}"].named, found["{mac}"].labels[2]) == (0, "port 3")


UPLINK = {"alias": "Uplink to core", "type": "ethernet", "speed": 10e9, "kind": "switch"}


def test_the_first_rule_that_holds_decides_and_is_named():
    rules = [
        rule(1, 'label like "uplink*"', role="uplink", tags={"watch": "yes"}),
        rule(2, 'kind is "switch"', role="access", tags={"watch": "no", "floor": "2"}),
    ]
    decided = decide(port(1, **UPLINK), rules)
    assert (decided.role, decided.role_by) == ("uplink", "the rule “rule 1”")
    assert decided.tags == {"watch": "yes", "floor": "2"}
    assert decided.tags_by["floor"] == "the rule “rule 2”"
    assert decide(port(2, kind="switch"), rules).role == "access"
    assert decide(port(2), rules).role_by == "no rule"


def test_who_decides_the_label():
    rules = [rule(1, 'kind is "switch"', template="{name} {alias}")]
    switch = port(1, name="x1", **UPLINK)
    assert decide(switch, rules).label == "x1 Uplink to core"
    assert decide(switch, rules, device_template="{name}").label == "x1"
    assert decide(switch, rules, device_template="{name}").label_by == "the device's template"
    router = {**switch, "kind": "router"}
    assert decide(router, rules, profile_template="{name}").label_by == "the profile's template"
    assert decide(router, rules).label_by == "the usual template"


def test_what_somebody_said_of_a_port_goes_first():
    rules = [rule(1, "", role="access", tags={"a": "1", "b": "2"})]
    decided = decide(port(1, name="g1"), rules, Own("Mine", "trunk", {"a": "9", "b": ""}))
    assert (decided.label, decided.role, decided.tags) == ("Mine", "trunk", {"a": "9"})
    assert decided.role_by == decided.tags_by["a"] == "somebody, for this port"
    assert decide(port(1), rules, Own(role="")).role == ""


def test_rules_see_the_label_that_was_decided():
    rules = [rule(1, "", template="{descr}"), rule(2, 'label like "WAN*"', role="wan")]
    assert decide(port(1, alias="something", descr="WAN A"), rules).role == "wan"
