"""Names of servers as records carry them, and applications that are known by them."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.flows import server_names
from lumtar.core.flows.applications import STANDARD, TCP, Application, Applications
from lumtar.core.flows.records import empty
from lumtar.core.flows.server_names import ServerNames, covers, host_name, names_of
from lumtar.core.refusal import Refusal


@pytest.mark.parametrize(
    ("told", "name"),
    [
        (b"films.example\0\0\0", "films.example"),
        (b"Films.EXAMPLE.", "films.example"),
        (b"films.example:8443", "films.example"),
        (b"198.51.100.7:80", "198.51.100.7"),
        (b"films example", ""),
        (b"films.example:x", ""),
        (b"\xc3\xa4.example", ""),
        (b"<script>", ""),
        (b"", ""),
    ],
)
def test_names_are_read_as_hosts_are_written(told, name):
    assert host_name(told) == name


@given(st.lists(st.binary(max_size=120), max_size=20))
def test_whatever_comes_has_a_number_and_alike_names_have_the_same(told):
    names = ServerNames()
    column = np.array(told, f"S{server_names.MOST_OCTETS}")
    numbers = names.numbers_of(column)
    assert [names[number] for number in numbers] == [host_name(each) for each in column.tolist()]
    np.testing.assert_array_equal(names.numbers_of(column), numbers)
    assert [each.decode() for each in names.texts(numbers).tolist()] == [names[number] for number in numbers]


def test_too_many_names_are_forgotten(monkeypatch):
    monkeypatch.setattr(server_names, "MOST", 3)
    names = ServerNames()
    for each in (b"a.example", b"b.example", b"c.example"):
        names.numbers_of(np.array([each]))
        names.tidy()
    assert names.numbers_of(np.array([b"c.example"])).tolist() == [1]


def test_a_name_means_all_beneath_it():
    assert covers(["films.example"], "films.example") and covers(["films.example"], "a.b.films.example")
    assert not covers(["films.example"], "myfilms.example") and not covers(["films.example"], "")
    assert names_of("films.example, Maps.example films.example") == ("films.example", "maps.example")
    for wrong in ("*.films.example", "http://films.example", "films.example:443"):
        with pytest.raises(Refusal, match="not the name of a server"):
            names_of(wrong)


def test_applications_are_known_by_names_and_what_else_they_ask():
    films = Application(1000, "films", (TCP,), (443,), server_names=("films.example",))
    names, records = ServerNames(), empty(4)
    records["protocol"] = [TCP, TCP, TCP, 17]
    records["server_name"] = names.numbers_of(np.array([b"eu.films.example", b"www.example", b"", b"films.example"]))
    known = Applications((*STANDARD, films))
    assert known.find(records, np.full(4, 443, "u2"), names).tolist() == [1000, 1, 1, 1]
    assert known.find(records, np.full(4, 443, "u2")).tolist() == [1, 1, 1, 1], "nobody knows what the numbers mean"
