"""Objects of makers' own: what they are, and what of them is refused."""

import pytest

from lumtar.core.components import KINDS
from lumtar.core.own_objects import check_object, own_kinds
from lumtar.core.refusal import Refusal

OID = "1.3.6.1.4.1.32473.2.31.7.1.3"


def test_what_an_object_can_be():
    assert {"object", "tunnel", "pair", "sessions", "session share", "threats"} <= set(own_kinds())
    assert not {"processor", "fan", "poe port"} & set(own_kinds())


def test_states_are_told_by_the_devices_own_numbers():
    made = check_object(OID, "Tunnel", part="tunnel", names=f"{OID}.2", states=" up 1,  4 ;down 2; ")
    assert made.states == "up 1, 4; down 2" and made.state_numbers() == {1: 1, 4: 1, 2: 2}
    tunnel = KINDS["tunnel"]
    assert [tunnel.state_of(told, made.state_numbers()) for told in (1.0, 4.0, 2.0, 9.0, None)] == [1, 1, 2, 2, 2]
    pair = KINDS["pair"]
    assert pair.state_of(None, {}) == 3 and pair.is_fault(3) and not pair.is_fault(2)
    # Words may have blanks in them.
    assert check_object(OID, "Pair", part="pair", states="not ready 0; active 1").state_numbers() == {0: 3, 1: 1}


def test_kinds_say_what_is_counted_and_in_what():
    made = check_object(OID, "In", "octets", 2.0, False, part="tunnel in")
    assert (made.counts, made.unit, made.kind.unit, made.kind.scale) == (True, "", "bit/s", 8.0)


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({"part": "engine"}, "An object is one of"),
        ({"part": "processor"}, "An object is one of"),
        ({"part": "session share"}, "say which object is the limit"),
        ({"part": "sessions", "limit": OID}, "has no limit; choose session share"),
        ({"part": "tunnel"}, "by which numbers the device means up, down"),
        ({"part": "tunnel", "states": "1 up"}, "such as “up 1; down 2”"),
        ({"part": "tunnel", "states": "up one"}, "such as “up 1; down 2”"),
        ({"names": "here"}, "not an object identifier"),
    ],
)
def test_what_is_refused(given, words):
    with pytest.raises(Refusal, match=words):
        check_object(OID, "Name", **given)
