from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.interface_matching import Port, match_interfaces


def test_the_same_again_is_the_same():
    known = [Port(10 + n, n, f"g{n}") for n in (1, 2, 3)]
    assert match_interfaces(known, [Port(n, n, f"g{n}") for n in (1, 2, 3)]) == {1: 11, 2: 12, 3: 13}


def test_two_ports_that_swapped_their_indexes_are_followed_by_name():
    known = [Port(11, 1, "g1"), Port(12, 2, "g2")]
    assert match_interfaces(known, [Port(1, 1, "g2"), Port(2, 2, "g1")]) == {1: 12, 2: 11}


def test_a_new_name_at_an_old_index_is_a_rename():
    assert match_interfaces([Port(11, 1, "g1")], [Port(1, 1, "gigabit 1")]) == {1: 11}


def test_without_names_the_address_or_the_alias_tells():
    known = [Port(11, 1, mac="a", alias="x"), Port(12, 2, mac="b", alias="y"), Port(13, 3, alias="z")]
    listed = [Port(1, 7, mac="b", alias="other"), Port(2, 8, mac="a"), Port(3, 9, alias="z")]
    assert match_interfaces(known, listed) == {1: 12, 2: 11, 3: 13}


def test_what_stands_for_two_ports_tells_nothing():
    known = [Port(11, 1, alias="spare"), Port(12, 2, alias="spare")]
    assert match_interfaces(known, [Port(1, 7, alias="spare"), Port(2, 8, alias="spare")]) == {}


def test_a_port_that_was_gone_comes_back_by_name_but_not_by_its_index_alone():
    gone = Port(11, 5, "g5", is_gone=True)
    assert match_interfaces([gone], [Port(1, 9, "g5")]) == {1: 11}
    assert match_interfaces([gone], [Port(1, 5, "something else")]) == {}


names = st.lists(st.text("abc", min_size=1, max_size=4), min_size=1, max_size=12, unique=True)


@given(names, st.randoms(use_true_random=False))
def test_any_renumbering_of_named_ports_is_undone(words, random):
    indexes = list(range(100, 100 + len(words)))
    random.shuffle(indexes)
    known = [Port(number, number + 1, word) for number, word in enumerate(words)]
    listed = [Port(1000 + number, indexes[number], word) for number, word in enumerate(words)]
    assert match_interfaces(known, listed) == {1000 + number: number for number in range(len(words))}


ports = st.lists(
    st.builds(
        Port,
        key=st.integers(0, 10**6),
        if_index=st.integers(1, 20),
        name=st.sampled_from(["", "a", "b"]),
        alias=st.sampled_from(["", "x", "y"]),
        mac=st.sampled_from(["", "m"]),
        is_gone=st.booleans(),
    ),
    max_size=10,
    unique_by=(lambda port: port.key, lambda port: port.if_index),
)


@given(ports, ports)
def test_no_known_port_is_found_twice(known, listed):
    found = match_interfaces(known, listed)
    assert len(set(found.values())) == len(found)
    assert set(found) <= {port.key for port in listed} and set(found.values()) <= {port.key for port in known}
