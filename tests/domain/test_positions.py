"""Places on a map, by graphviz and without it."""

import itertools
import subprocess

import pytest

from lumtar.core.topology.layout import Card
from lumtar.domain.topology import positions

CARD = Card(132, 78)
TREE = [(f"n{number // 3}", f"n{number}") for number in range(1, 40)]
NODES = [f"n{number}" for number in range(40)]


def apart(placed):
    return all(
        abs(x - u) >= 100 or abs(y - v) >= 46  # the size of a card itself
        for (x, y), (u, v) in itertools.combinations(placed.values(), 2)
    )


def test_a_large_network_is_spread_without_cards_on_each_other_and_the_same_each_time():
    placed = positions.spread(NODES, TREE, CARD)
    assert set(placed) == set(NODES) and apart(placed)
    assert positions.spread(NODES, TREE, CARD) == placed


def test_in_layers_what_others_hang_on_stands_above_them_and_what_is_joined_beside_each_other():
    edges = [("core", "left"), ("core", "right"), ("left", "right"), ("left", "leaf")]
    placed = positions.layered(["leaf", "right", "left", "core"], edges, CARD, ["core"])
    height = {node: y for node, (_, y) in placed.items()}
    assert height["core"] < height["left"] == height["right"] < height["leaf"] and apart(placed)


def test_links_to_itself_and_twice_are_no_matter():
    placed = positions.spread(["a", "b", "c"], [("a", "a"), ("a", "b"), ("a", "b"), ("b", "c")], CARD)
    assert apart(placed) and len(placed) == 3


@pytest.mark.parametrize("fault", ["missing", "fails", "hangs"])
def test_without_graphviz_or_if_it_fails_they_stand_in_rows(monkeypatch, fault):
    def run(*args, **more):
        if fault == "hangs":
            raise subprocess.TimeoutExpired("sfdp", 60)
        raise subprocess.CalledProcessError(1, "sfdp")

    if fault == "missing":
        monkeypatch.setattr(positions.shutil, "which", lambda name: None)
    else:
        monkeypatch.setattr(positions.subprocess, "run", run)
    placed = positions.spread(NODES, TREE, CARD)
    assert set(placed) == set(NODES) and apart(placed)
    assert len({y for _, y in placed.values()}) < len(NODES) / 2, "in rows"


@pytest.mark.django_db
def test_when_most_of_a_map_has_links_only_now_it_is_laid_out_anew_unless_somebody_moved_a_card():
    chain = [("n0", "n1")]
    first = positions.of_map("devices", NODES, chain, CARD)
    grown = positions.of_map("devices", NODES, TREE, CARD)
    assert grown["n0"] != first["n0"]
    positions.move("sites", {"n0": (-777.0, 5.0)}, None)
    assert positions.of_map("sites", NODES, TREE, CARD)["n0"] == (-777.0, 5.0)


@pytest.mark.django_db
def test_who_sees_a_part_gets_the_places_that_are_kept_and_keeps_none():
    kept = positions.of_map("devices", NODES[:13], TREE[:12], CARD)
    seen = positions.of_map("devices", [*NODES[:5], "n20"], [*TREE[:4], ("n0", "n20")], CARD, keep=False)
    assert {node: seen[node] for node in NODES[:5]} == {node: kept[node] for node in NODES[:5]}
    again = positions.of_map("devices", NODES[:13], TREE[:12], CARD)
    assert again == kept and apart({**kept, "n20": seen["n20"]})
