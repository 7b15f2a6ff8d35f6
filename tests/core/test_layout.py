"""Where things stand on a map."""

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.topology import layout
from lumtar.core.topology.layout import Card

CARD = Card(124, 74)


def overlapping(placed, share=0.98):
    return [
        (one, other)
        for (one, (x, y)), (other, (u, v)) in itertools.combinations(placed.items(), 2)
        if abs(x - u) < CARD.width * share and abs(y - v) < CARD.height * share
    ]


def star(branches, hubs=2):
    """Branches on some hubs, and two sites between which the hubs hang."""
    nodes = [*(f"h{n}" for n in range(hubs)), "c", "d", *(f"s{n}" for n in range(branches))]
    edges = [("c", "d"), ("c", "h0"), ("d", f"h{hubs - 1}")]
    edges += [(f"s{n}", f"h{hub}") for n in range(branches) for hub in range(hubs)]
    return nodes, edges


@pytest.mark.parametrize(("branches", "hubs"), [(6, 1), (12, 1), (12, 2), (22, 2), (40, 3), (60, 2)])
def test_branches_stand_around_their_hubs_and_no_card_lies_on_another(branches, hubs):
    nodes, edges = star(branches, hubs)
    parts = layout.ring_of(nodes, edges)
    assert parts == layout.Ring([f"s{n}" for n in range(branches)], [f"h{n}" for n in range(hubs)], ["c", "d"])
    placed = layout.ring(parts, CARD)
    assert set(placed) == set(nodes) and overlapping(placed, 0.85) == []
    top = min(placed, key=lambda node: placed[node][1])
    assert top == "s0", "the first one at the top"


@pytest.mark.parametrize(
    ("nodes", "edges"),
    [
        ([], []),
        (["a", "b"], [("a", "b")]),
        star(61),
        star(3),
        ([f"n{n}" for n in range(9)], [(f"n{n}", f"n{n + 1}") for n in range(8)]),
        ([f"n{n}" for n in range(8)], [(f"n{a}", f"n{b}") for a in range(8) for b in range(a)]),
    ],
    ids=["nothing", "a pair", "too many", "too few", "a chain", "everybody with everybody"],
)
def test_what_is_no_readable_ring_is_not_drawn_as_one(nodes, edges):
    assert layout.ring_of(nodes, edges) is None


names = st.integers(0, 14).map(lambda n: f"n{n}")


@given(st.lists(st.tuples(names, names), max_size=25), st.sets(names, max_size=10))
def test_what_is_new_finds_a_free_spot_and_nothing_else_moves(edges, old):
    placed = layout.below({}, sorted(old), CARD)
    before = dict(placed)
    nodes = sorted({node for edge in edges for node in edge} | old)
    found = layout.beside(placed, nodes, edges, CARD)
    assert placed == before and set(found) == set(nodes) - old
    assert overlapping(placed | found) == []
    assert layout.beside(placed, nodes, list(reversed(edges)), CARD) == found


def test_what_is_new_stands_near_what_it_hangs_on():
    placed = layout.below({}, [f"n{n}" for n in range(20)], CARD)
    (x, y), (u, v) = layout.beside(placed, ["new"], [("new", "n3")], CARD)["new"], placed["n3"]
    assert abs(x - u) <= 5 * CARD.width and abs(y - v) <= 5 * CARD.height
    assert layout.beside(placed, ["alone"], [], CARD)["alone"][1] > max(y for _, y in placed.values())


@given(st.lists(st.tuples(names, names), max_size=25), st.sets(names, min_size=1), st.sets(names, max_size=3))
def test_every_node_has_a_depth_that_differs_from_its_neighbours_by_one_at_most(edges, alone, tops):
    nodes = sorted({node for edge in edges for node in edge} | alone)
    deep = layout.depths(nodes, edges, tops)
    assert set(deep) == set(nodes)
    assert all(deep[node] == 0 for node in tops & set(nodes))
    # Parts without a top begin at a node of their own.
    assert all(abs(deep[a] - deep[b]) <= 1 for a, b in edges)
