"""Where nodes stand on each map: worked out once, kept, and moved by people; what is new finds a free spot."""

import shutil
import subprocess
from collections.abc import Collection, Iterable, Mapping, Sequence

import structlog
from django.db import connection, transaction

from lumtar.core.refusal import Refusal
from lumtar.core.topology import layout
from lumtar.core.topology.layout import Card, Edge, Position
from lumtar.domain.operation.services import announce
from lumtar.domain.topology.models import MapPosition

log = structlog.get_logger()
POINTS = 72.0
"""Graphviz counts in inches; a pixel is a point here."""
PATIENCE_S = 60.0
MOST_NEW = 0.5
"""Where a larger share than this has links only now, and nobody moved anything by hand, everything is placed anew."""
WIDEST_LAYER = 9
"""A map in layers with more cards side by side is wider than a screen."""
CLOSE = 60.0
"""Pixels by which cards in layers may stand closer than elsewhere."""
FARTHEST = 1e6


def of_map(
    name: str,
    nodes: Sequence[str],
    edges: Iterable[Edge],
    card: Card,
    *,
    tops: Collection[str] = (),
    hanging: Mapping[str, str] | None = None,
    person: int | None = None,
    keep: bool = True,
) -> dict[str, Position]:
    """Where the nodes of a map stand, for everybody or as a person arranged it.

    Parameters
    ----------
    tops : nodes that stand at the top of a map in layers
    hanging : leaves that stand beneath one of the nodes, by what they hang on; unless somebody moved them
    keep : whether what is placed anew is kept; not for somebody who sees a part of the map
    """
    joined = sorted({(min(edge), max(edge)) for edge in edges})
    found = _shared(name, nodes, joined, card, tops, keep=keep)
    leaves = hanging or {}
    moved = MapPosition.objects.filter(map=name, person=None, node__in=leaves)
    found |= {row.node: (row.x, row.y) for row in moved}
    if person is not None:
        own = MapPosition.objects.filter(map=name, person=person, node__in=[*nodes, *leaves])
        found |= {row.node: (row.x, row.y) for row in own}
    return found | layout.hung(found, {leaf: at for leaf, at in leaves.items() if leaf not in found}, card)


def _shared(
    name: str, nodes: Sequence[str], edges: Sequence[Edge], card: Card, tops: Collection[str], *, keep: bool
) -> dict[str, Position]:
    joined = layout.neighbours(edges)
    # What nothing leads to yet has no place of its own: it gets one once its links are known.
    linked = [node for node in nodes if joined[node]]
    known = _known(name)
    if not keep or all(node in known for node in linked):
        return _placed(known, nodes, edges, card, tops)
    with transaction.atomic(), connection.cursor() as cursor:
        # Two who look at a new map at once would place the same nodes at different spots.
        cursor.execute("SELECT pg_advisory_xact_lock(hashtextextended(%s, 0))", [f"map {name}"])
        known = _known(name)
        missing = [node for node in linked if node not in known]
        moved = MapPosition.objects.filter(map=name, person=None, by_hand=True).exists()
        if len(missing) > MOST_NEW * len(linked) and not moved:
            known = {}
        found = _placed(known, nodes, edges, card, tops)
        _keep(name, {node: found[node] for node in linked if node not in known}, person=None, by_hand=False)
    return found


def _known(name: str) -> dict[str, Position]:
    rows = MapPosition.objects.filter(map=name, person=None).values_list("node", "x", "y")
    return {node: (x, y) for node, x, y in rows}


def _placed(
    known: Mapping[str, Position], nodes: Sequence[str], edges: Sequence[Edge], card: Card, tops: Collection[str]
) -> dict[str, Position]:
    """Every node: where it is known to be, or placed."""
    here = {node: known[node] for node in nodes if node in known}
    if here:
        # What is not on this map just now keeps its room for when it comes back.
        return here | layout.beside(known, [node for node in nodes if node not in here], edges, card)
    joined = layout.neighbours(edges)
    linked = [node for node in nodes if joined[node]]
    if parts := layout.ring_of(linked, edges):
        placed = layout.ring(parts, card)
    elif max(map(len, _layers(layout.depths(linked, edges, tops))), default=0) <= WIDEST_LAYER:
        placed = layered(linked, edges, card, tops)
    else:
        placed = spread(linked, edges, card)
    return placed | layout.below(placed, [node for node in nodes if node not in placed], card)


def spread(nodes: Sequence[str], edges: Sequence[Edge], card: Card) -> dict[str, Position]:
    """All nodes by graphviz's sfdp, which is fast and gives the same each time; cards are kept apart."""
    drawn = [(a, b) for a, b in edges if a != b]
    return _by_graphviz("sfdp", "graph", "--", nodes, drawn, card, "overlap=prism,K=1.2,start=1")


def layered(nodes: Sequence[str], edges: Sequence[Edge], card: Card, tops: Collection[str]) -> dict[str, Position]:
    """Nodes in layers from top to bottom by graphviz's dot: what others hang on above them."""
    deep = layout.depths(nodes, edges, tops)
    drawn = [(a, b) if deep[a] <= deep[b] else (b, a) for a, b in edges]
    room = f"nodesep={(card.width - CLOSE) / 4 / POINTS:.2f},ranksep={card.height / POINTS:.2f}"
    return _by_graphviz("dot", "digraph", "->", nodes, drawn, card, room, _layers(deep))


def _layers(deep: Mapping[str, int]) -> list[list[str]]:
    """The nodes of each depth."""
    return [[node for node in deep if deep[node] == depth] for depth in range(max(deep.values(), default=-1) + 1)]


def _by_graphviz(
    engine: str, kind: str, arrow: str, nodes: Sequence[str], edges: Sequence[Edge], card: Card, graph: str,
    ranks: Iterable[Iterable[str]] = (),
) -> dict[str, Position]:  # fmt: skip
    """Positions by one of graphviz's engines; in rows where it is not there. ``ranks`` are nodes that stand side by side."""
    if len(nodes) < 2 or shutil.which(engine) is None:
        return layout.below({}, nodes, card)
    numbers = {node: place for place, node in enumerate(nodes)}
    size = f"width={card.width / POINTS:.3f},height={card.height / POINTS:.3f}"
    text = "\n".join(
        [
            f'{kind} map {{ graph [{graph}]; node [shape=box,fixedsize=true,label="",{size}];',
            *(f"{numbers[node]};" for node in nodes),
            *(f"{{rank=same; {' '.join(str(numbers[node]) for node in rank)}}}" for rank in ranks),
            *(f"{numbers[a]}{arrow}{numbers[b]};" for a, b in edges),
            "}",
        ]
    )
    try:
        done = subprocess.run(
            [engine, "-Tplain"], input=text, text=True, capture_output=True, check=True, timeout=PATIENCE_S
        )
    except (subprocess.SubprocessError, OSError) as error:
        log.warning("the map could not be laid out", engine=engine, error=str(error)[:300])
        return layout.below({}, nodes, card)
    found = {}
    for line in done.stdout.splitlines():
        if line.startswith("node "):
            _, number, x, y, *_ = line.split()
            found[nodes[int(number)]] = (float(x) * POINTS, -float(y) * POINTS)
    return found


def _keep(name: str, positions: Mapping[str, Position], *, person: int | None, by_hand: bool) -> None:
    MapPosition.objects.bulk_create(
        [
            MapPosition(map=name, node=node, x=x, y=y, person_id=person, by_hand=by_hand)
            for node, (x, y) in positions.items()
        ],
        update_conflicts=True,
        unique_fields=["map", "node", "person"],
        update_fields=["x", "y", "by_hand"],
        batch_size=2000,
    )


def move(name: str, positions: Mapping[str, Position], person: int | None) -> None:
    """Keep where somebody put nodes: for everybody, or for a person alone.

    Raises
    ------
    Refusal
    """
    if any(not abs(value) <= FARTHEST for position in positions.values() for value in position):
        raise Refusal("A position is farther away than a map reaches.")
    _keep(name, positions, person=person, by_hand=True)
    announce("topology")


def reset(name: str, person: int | None) -> int:
    """Forget an arrangement: a person's own, or everybody's, which is worked out anew then. Returns of how many nodes."""
    gone, _ = MapPosition.objects.filter(map=name, person=person).delete()
    announce("topology")
    return gone
