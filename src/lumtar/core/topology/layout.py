"""Where things stand on a map: hubs within a ring of what hangs on them, and a free spot for what is new.

Positions are pixels at full size, x to the right and y downwards. Everything here gives the same for the same input.
"""

import math
from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Position = tuple[float, float]
Edge = tuple[str, str]
HUB_DEGREE = 4
"""What so many others hang on stands inside the ring."""
RING_MOST = 60
"""More than these in one ring would make it larger than a screen can show."""
HUBS_MOST, INNER_MOST = 3, 5
"""More hubs, or more besides them, have no room inside one."""
CLOSE = 0.86
"""Cards in a ring stand so close: a share of the room that each has elsewhere."""
FLAT = 0.62
"""Height of the ring as a share of its width: screens are wide."""


@dataclass(frozen=True, slots=True)
class Card:
    """The room that each node takes up, with the space around it."""

    width: float
    height: float


def neighbours(edges: Iterable[Edge]) -> dict[str, set[str]]:
    """Whom each node is joined to; a node that is joined to itself alone is in no pair."""
    found: dict[str, set[str]] = defaultdict(set)
    for a, b in edges:
        if a != b:
            found[a].add(b)
            found[b].add(a)
    return found


@dataclass(frozen=True, slots=True)
class Ring:
    """A network that is drawn as a ring: what hangs on hubs alone, those hubs, and what else joins them inside."""

    outer: list[str]
    hubs: list[str]
    inner: list[str]


def ring_of(nodes: Sequence[str], edges: Iterable[Edge]) -> Ring | None:
    """The parts of a network as a ring, each in the order of the nodes; None if it would be no readable one."""
    joined = neighbours(edges)
    hubs = {node for node in nodes if len(joined[node]) >= HUB_DEGREE}
    outer = [node for node in nodes if node not in hubs and joined[node] and joined[node] <= hubs]
    carrying = set().union(*(joined[node] for node in outer))
    inner = [node for node in nodes if node not in carrying and node not in outer]
    inside = len(carrying) + len(inner)
    if not HUB_DEGREE <= len(outer) <= RING_MOST or len(carrying) > HUBS_MOST or len(inner) > INNER_MOST:
        return None
    if len(outer) < 2 * inside:
        return None
    return Ring(outer, [node for node in nodes if node in carrying], inner)


def ring(parts: Ring, card: Card) -> dict[str, Position]:
    """What hangs on hubs on an ellipse, in its order from the top clockwise; hubs above each other in it, the others side by side.

    So the links of two hubs come from above and from below, and stay apart.
    """
    # Room for the inner ones side by side, and for a card between the outermost hubs and the ring.
    across = max(2.2 * card.width, (len(parts.inner) + 1.5) * card.width, 9.5 * card.height * (len(parts.hubs) > 1))
    angles = -np.pi / 2 + 2 * np.pi * np.arange(len(parts.outer)) / len(parts.outer)
    unit = np.stack([np.cos(angles), FLAT * np.sin(angles)], axis=1) / 2
    # Those that stand beside each other are the nearest ones.
    step = np.abs(unit - np.roll(unit, 1, axis=0))
    while not ((across * step[:, 0] >= CLOSE * card.width) | (across * step[:, 1] >= CLOSE * card.height)).all():
        across *= 1.05
    placed = {name: (float(x), float(y)) for name, (x, y) in zip(parts.outer, across * unit, strict=True)}
    down = across * FLAT * 0.55
    # Aside of each other as well, or links to the lower one would pass behind the upper one.
    aside = 1.1 * card.width
    placed |= {
        name: (share * aside, share * down) for name, share in zip(parts.hubs, _evenly(len(parts.hubs)), strict=True)
    }
    sideways = max(across * 0.3, (len(parts.inner) - 1) * card.width)
    for name, share in zip(parts.inner, _evenly(len(parts.inner)), strict=True):
        placed[name] = _free_spot(placed.values(), (share * sideways, 0.0), card)
    return placed


def depths(nodes: Sequence[str], edges: Iterable[Edge], tops: Collection[str]) -> dict[str, int]:
    """How many links each node is away from the nearest of those at the top; each part without one begins at its best joined node."""
    joined = neighbours(edges)
    found: dict[str, int] = {}
    begin = [node for node in nodes if node in tops]
    waiting = set(nodes)
    while waiting:
        begin = begin or [max((node for node in nodes if node in waiting), key=lambda node: len(joined[node]))]
        layer, depth = begin, 0
        while layer:
            found |= dict.fromkeys(layer, depth)
            waiting -= set(layer)
            layer = [node for node in nodes if node in waiting and joined[node] & set(layer)]
            depth += 1
        begin = []
    return found


def _evenly(number: int) -> list[float]:
    """So many places from -0.5 to 0.5; one alone is in the middle."""
    return [0.0] if number == 1 else [place / (number - 1) - 0.5 for place in range(number)]


def beside(
    placed: Mapping[str, Position], new: Sequence[str], edges: Iterable[Edge], card: Card
) -> dict[str, Position]:
    """Free spots for new nodes near those that they are joined to; what is placed stays. Those joined to nothing go below.

    Returns
    -------
    positions of the new ones
    """
    joined = neighbours(edges)
    everything = dict(placed)
    waiting = [node for node in new if node not in placed]
    while True:
        reached = [node for node in waiting if joined[node] & everything.keys()]
        if not reached:
            break
        for node in reached:
            near = [everything[each] for each in sorted(joined[node] & everything.keys())]
            centre = (sum(x for x, _ in near) / len(near), sum(y for _, y in near) / len(near))
            everything[node] = _free_spot(everything.values(), centre, card)
        waiting = [node for node in waiting if node not in everything]
    everything |= below(everything, waiting, card)
    return {node: everything[node] for node in new if node not in placed}


STACKED = 0.75
"""Height that each card of a stack takes up, as a share of the room that it has elsewhere."""


def hung(placed: Mapping[str, Position], on: Mapping[str, str], card: Card) -> dict[str, Position]:
    """Nodes stacked beneath those that they hang on; where another card is in the way, at the nearest free spot.

    Parameters
    ----------
    on : by each node the placed one that it hangs on

    Returns
    -------
    positions of the hanging ones
    """
    close, everything = Card(card.width, STACKED * card.height), dict(placed)
    below_it: dict[str, int] = defaultdict(int)
    for node, parent in on.items():
        below_it[parent] += 1
        x, y = placed[parent]
        wanted = x, y + card.height + (below_it[parent] - 1) * close.height
        everything[node] = _free_spot(everything.values(), wanted, close)
    return {node: everything[node] for node in on}


def below(placed: Mapping[str, Position], nodes: Sequence[str], card: Card) -> dict[str, Position]:
    """Nodes in rows below everything that is placed, as wide as that."""
    if not nodes:
        return {}
    xs, ys = [x for x, _ in placed.values()] or [0.0], [y for _, y in placed.values()] or [0.0]
    square = math.ceil(math.sqrt(len(nodes) * card.height / card.width * 1.6))
    columns = max(1, min(len(nodes), max(int((max(xs) - min(xs)) / card.width) + 1, square)))
    top = max(ys) + 1.6 * card.height if placed else 0.0
    left = (max(xs) + min(xs)) / 2 - (columns - 1) * card.width / 2
    return {
        node: (left + place % columns * card.width, top + place // columns * card.height)
        for place, node in enumerate(nodes)
    }


def _free_spot(placed: Iterable[Position], wanted: Position, card: Card) -> Position:
    """The spot nearest to the one that is wanted where no card lies upon another; looked for on rings around it."""
    others: NDArray[np.float64] = np.array(list(placed), float).reshape(-1, 2)
    for radius in range(200):
        steps = max(1, 8 * radius)
        angles = 2 * np.pi * np.arange(steps) / steps
        spots = np.array(wanted) + radius / 2 * np.stack(
            [card.width * np.cos(angles), card.height * np.sin(angles)], axis=1
        )
        away = np.abs(spots[:, None, :] - others[None, :, :])
        free = ((away[:, :, 0] >= card.width * 0.99) | (away[:, :, 1] >= card.height * 0.99)).all(axis=1)
        if free.any():
            x, y = spots[int(np.argmax(free))]
            return float(x), float(y)
    return wanted
