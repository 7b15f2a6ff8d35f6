"""Traps: what each means, what is done on it, and its sentence in the logbook."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.traps import KNOWN, LINK_DOWN, LINK_UP, Notification, Then, standard_oid

OWN = "1.3.6.1.4.1.32473.0.9"
COLUMN = "1.3.6.1.2.1.2.2.1"


@pytest.mark.parametrize(
    ("generic", "specific", "oid"),
    [
        (0, 0, "1.3.6.1.6.3.1.1.5.1"),
        (2, 0, LINK_DOWN),
        (3, 0, LINK_UP),
        (6, 9, "1.3.6.1.4.1.32473.0.9"),
    ],
)
def test_traps_of_version_1_have_the_names_of_rfc_3584(generic, specific, oid):
    assert standard_oid("1.3.6.1.4.1.32473", generic, specific) == oid


def link(oid, **states):
    columns = {"index": 1, "admin": 7, "oper": 8}
    return Notification(oid, [(f"{COLUMN}.{columns[name]}.5", value) for name, value in states.items()])


def test_links_say_which_port_and_what_became_of_it():
    down = link(LINK_DOWN, index=5, admin=1, oper=2)
    assert down.if_index == 5 and down.then() is Then.POLL
    assert down.sentence("Desk 1") == "trap linkDown: Desk 1 operationally down"
    assert link(LINK_DOWN, index=5, admin=2, oper=2).sentence() == (
        "trap linkDown: interface 5 switched off, operationally down"
    )
    assert link(LINK_UP).sentence("g1") == "trap linkUp: g1" and link(LINK_UP).if_index is None


def test_what_is_known_by_name_says_what_it_means():
    started = Notification("1.3.6.1.6.3.1.1.5.1")
    assert started.sentence() == "trap coldStart: it started, and may be set up differently"
    assert started.then() is Then.POLL
    assert Notification("1.3.6.1.6.3.1.1.5.5").then() is Then.NOTHING


def test_others_show_what_they_carry():
    trap = Notification(
        OWN, [("1.3.6.1.4.1.32473.1.1", 5), ("1.3.6.1.4.1.32473.1.2", b"too hot"), ("1.2.3", b"\xff\0")]
    )
    assert trap.sentence() == (
        f"trap {OWN}: 1.3.6.1.4.1.32473.1.1 = 5, 1.3.6.1.4.1.32473.1.2 = “too hot”, 1.2.3 = ff 00"
    )
    assert trap.then() is Then.NOTHING
    many = Notification(OWN, [(f"1.2.{number}", number) for number in range(9)])
    assert many.sentence().endswith("1.2.5 = 5 and 3 more")
    assert Notification(OWN).sentence() == f"trap {OWN}"


def test_a_last_gasp_is_one_where_the_profile_says_so():
    assert Notification(OWN).then([OWN]) is Then.LAST_GASP
    assert Notification(OWN).sentence(is_last_gasp=True) == f"trap {OWN}: it is losing its power"
    assert Notification(LINK_DOWN).then([LINK_DOWN]) is Then.LAST_GASP


@given(
    st.sampled_from([*KNOWN, OWN]),
    st.lists(
        st.tuples(st.sampled_from(["1.2.3", f"{COLUMN}.1.4", f"{COLUMN}.8.4"]), st.one_of(st.integers(), st.binary()))
    ),
)
def test_there_is_a_sentence_whatever_is_carried(oid, objects):
    words = Notification(oid, objects).sentence()
    assert words.startswith("trap ") and words.isprintable()
