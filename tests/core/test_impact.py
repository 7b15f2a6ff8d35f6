"""What a failure would cost."""

import itertools

from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.topology.impact import Impact, impact

# A ring of 1, 2, 3, with 4 on 3 and 5 on 4.
RING = [(1, 2), (2, 3), (3, 1), (3, 4), (4, 5)]


def test_a_device_takes_along_what_hangs_on_it_and_opens_the_ring():
    assert impact(RING, devices=[3]) == Impact(frozenset({4, 5}), frozenset({1, 2}))
    assert impact(RING, devices=[5]) == Impact(frozenset(), frozenset())


def test_a_link_of_the_ring_costs_its_redundancy_and_one_outside_cuts_off():
    assert impact(RING, without=[0]) == Impact(frozenset(), frozenset({1, 2, 3}))
    assert impact(RING, without=[4]) == Impact(frozenset({5}), frozenset())


def test_two_links_between_two_devices_are_two_ways():
    assert impact([(1, 2), (1, 2)], without=[0]) == Impact(frozenset(), frozenset({1, 2}))


def test_what_is_not_joined_to_it_is_no_matter():
    assert impact([*RING, (8, 9)], devices=[3]).cut_off == {4, 5}
    assert impact([], devices=[1]) == Impact(frozenset(), frozenset())


def reached(start, links):
    found, waiting = {start}, [start]
    while waiting:
        here = waiting.pop()
        for a, b in links:
            for one, other in ((a, b), (b, a)):
                if one == here and other not in found:
                    found.add(other)
                    waiting.append(other)
    return found


graphs = st.lists(st.tuples(st.integers(1, 8), st.integers(1, 8)), min_size=1, max_size=14)


@given(graphs, st.data())
def test_against_what_it_means(links, data):
    place = data.draw(st.integers(0, len(links) - 1))
    found = impact(links, without=[place])
    left = [pair for number, pair in enumerate(links) if number != place and pair[0] != pair[1]]
    touched = reached(links[place][0], links) | reached(links[place][1], links)
    parts = {frozenset(reached(each, left) & touched) for each in touched}
    largest = max(len(part) for part in parts)
    rest = touched - found.cut_off
    assert len(rest) == largest and rest in parts

    def solid(one, other, these):
        """Whether no link alone parts the two."""
        return all(
            other in reached(one, [pair for number, pair in enumerate(these) if number != without])
            for without in range(-1, len(these))
        )

    for device in found.one_way_left:
        assert device in rest
        assert any(solid(device, other, links) for other in touched - {device})
    kept = [each for each in rest if each not in found.one_way_left]
    lost = [
        each
        for each in kept
        if any(solid(each, other, links) for other in touched - {each})
        and not any(solid(each, other, left) for other in rest - {each})
    ]
    # Where two parts have two ways within themselves, the larger one is what is looked at.
    groups = [{each, *(other for other in touched - {each} if solid(each, other, links))} for each in sorted(touched)]
    if sum(len(group) > 1 for group in {frozenset(group) for group in groups}) <= 1:
        assert lost == [] or set(itertools.chain(lost)) <= found.one_way_left
