"""What bridges that are joined agree on: a spanning tree (IEEE 802.1D), and at which port each of them hears every station."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

Edge = tuple[int, int, int, int]
"""A bridge and its port, and the bridge and port at the other end."""


@dataclass
class Tree:
    """The spanning tree of bridges that are joined, by their numbers; the lowest number is the root."""

    root: dict[int, int] = field(default_factory=dict)
    """Of each bridge the root of its tree."""
    cost: dict[int, int] = field(default_factory=dict)
    """Links to the root."""
    root_port: dict[int, int] = field(default_factory=dict)
    """Of each bridge but the root."""
    blocked: set[tuple[int, int]] = field(default_factory=set)
    """Ports that carry nothing, since another way leads to the root already."""
    next: dict[int, dict[int, int]] = field(default_factory=dict)
    """By bridge, the other bridges that its ports lead to on the tree."""


def span(bridges: Collection[int], edges: Sequence[Edge]) -> Tree:
    """The tree over some edges: each bridge is reached from the root over the fewest links."""
    joined: dict[int, list[tuple[int, int, int]]] = {each: [] for each in bridges}
    for a, a_port, b, b_port in edges:
        joined[a].append((b, a_port, b_port))
        joined[b].append((a, b_port, a_port))
    tree = Tree(next={each: {} for each in bridges})
    for root in sorted(bridges):
        if root in tree.root:
            continue
        tree.root[root], tree.cost[root] = root, 0
        layer = [root]
        while layer:
            further = []
            for here in layer:
                for other, port, back in sorted(joined[here]):
                    if other not in tree.root:
                        tree.root[other], tree.cost[other], tree.root_port[other] = root, tree.cost[here] + 1, back
                        tree.next[here][port], tree.next[other][back] = other, here
                        further.append(other)
            layer = further
    for a, a_port, b, b_port in edges:
        if a_port not in tree.next[a]:
            # The end that is farther from the root gives way; of two alike the one with the higher number.
            tree.blocked.add((a, a_port) if (tree.cost[a], a) > (tree.cost[b], b) else (b, b_port))
    return tree


def hears(tree: Tree, stations: Mapping[int, Iterable[tuple[int, int]]]) -> dict[int, dict[int, int]]:
    """The forwarding table of each bridge: at which port it hears which station.

    Parameters
    ----------
    stations : by bridge, who is plugged in there: a MAC address as a number, and the port
    """
    tables: dict[int, dict[int, int]] = {}
    for bridge, ports in tree.next.items():
        table = dict(stations.get(bridge, ()))
        for port, first in ports.items():
            waiting, seen = [first], {bridge, first}
            while waiting:
                here = waiting.pop()
                table.update((mac, port) for mac, _ in stations.get(here, ()))
                more = [each for each in tree.next[here].values() if each not in seen]
                seen.update(more)
                waiting += more
        tables[bridge] = table
    return tables
