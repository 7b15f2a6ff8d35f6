"""The ways between two ends of a network: the one with the fewest links, and others that share no link with it."""

from collections import defaultdict
from collections.abc import Collection, Sequence

Edge = tuple[str, str]


def ways(edges: Sequence[Edge], start: str, goal: str, without: Collection[int] = (), most: int = 3) -> list[list[int]]:
    """The shortest way by number of links, then the shortest that shares no link with those before it, and so on.

    Parameters
    ----------
    without : places in ``edges`` of links that are no way, as those that are down

    Returns
    -------
    of each way the places of its links, from start to goal; none if there is no way, an empty one if both are the same
    """
    if start == goal:
        return [[]]
    joined: dict[str, list[tuple[str, int]]] = defaultdict(list)
    for place, (a, b) in enumerate(edges):
        if a != b:
            joined[a].append((b, place))
            joined[b].append((a, place))
    used, found = set(without), list[list[int]]()
    while len(found) < most and (way := _shortest(joined, start, goal, used)):
        found.append(way)
        used |= set(way)
    return found


def _shortest(joined: dict[str, list[tuple[str, int]]], start: str, goal: str, without: Collection[int]) -> list[int]:
    came: dict[str, tuple[str, int]] = {}
    layer, seen = [start], {start}
    while layer and goal not in seen:
        further = []
        for here in layer:
            for other, place in joined.get(here, ()):
                if other not in seen and place not in without:
                    seen.add(other)
                    came[other] = (here, place)
                    further.append(other)
        layer = further
    way = []
    here = goal
    while here in came:
        here, place = came[here]
        way.append(place)
    return way[::-1]


def stations(edges: Sequence[Edge], start: str, way: Sequence[int]) -> list[str]:
    """The nodes along a way, both ends included."""
    found = [start]
    for place in way:
        a, b = edges[place]
        found.append(b if found[-1] == a else a)
    return found
