"""The ways between two ends."""

from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.topology.ways import stations, ways

SQUARE = [("a", "b"), ("b", "c"), ("a", "d"), ("d", "e"), ("e", "c"), ("c", "f")]


def test_the_shortest_one_then_one_that_shares_no_link():
    assert ways(SQUARE, "a", "c") == [[0, 1], [2, 3, 4]]
    assert ways(SQUARE, "a", "f") == [[0, 1, 5]], "the last link is shared by every way"
    assert stations(SQUARE, "a", [2, 3, 4]) == ["a", "d", "e", "c"]


def test_what_is_down_is_no_way():
    assert ways(SQUARE, "a", "c", without=[1]) == [[2, 3, 4]]
    assert ways(SQUARE, "a", "c", without=[1, 3]) == []


def test_to_oneself_and_to_what_is_not_there():
    assert ways(SQUARE, "a", "a") == [[]]
    assert ways(SQUARE, "a", "z") == [] and ways([], "a", "b") == []


def test_two_links_between_two_devices_are_two_ways():
    assert ways([("a", "b"), ("b", "a")], "a", "b") == [[0], [1]]


names = st.integers(0, 7).map(lambda n: f"n{n}")


@given(st.lists(st.tuples(names, names), max_size=16), names, names, st.sets(st.integers(0, 15)))
def test_every_way_is_one_and_none_is_shorter(edges, start, goal, without):
    found = ways(edges, start, goal, without)
    if start == goal:
        return
    used = [place for way in found for place in way]
    assert len(used) == len(set(used)) and not set(used) & without
    for way in found:
        passed = stations(edges, start, way)
        assert passed[-1] == goal and len(set(passed)) == len(passed)
        assert all({passed[n], passed[n + 1]} == set(edges[place]) for n, place in enumerate(way))
    assert [len(way) for way in found] == sorted(len(way) for way in found)
    # How far it is, by plain widening.
    distance, reached = 0, {start}
    while goal not in reached:
        more = {
            end
            for place, pair in enumerate(edges)
            if place not in without
            for here, end in (pair, pair[::-1])
            if here in reached
        } - reached
        if not more:
            break
        reached |= more
        distance += 1
    assert bool(found) == (goal in reached)
    if found:
        assert len(found[0]) == distance
