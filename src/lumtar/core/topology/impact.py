"""What a failure would cost: who would be cut off from the rest, and who would have one way left."""

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

Pair = tuple[int, int]


@dataclass(frozen=True, slots=True)
class Impact:
    """Devices that would be cut off from the largest part that is left, and devices that would keep one way to it, having two now."""

    cut_off: frozenset[int]
    one_way_left: frozenset[int]


def impact(links: Sequence[Pair], devices: Collection[int] = (), without: Collection[int] = ()) -> Impact:
    """What happens if some devices fail, or some links.

    Parameters
    ----------
    links : pairs of devices; two links between the same two are two pairs
    devices : those that fail
    without : places in ``links`` of those that fail
    """
    failed = set(devices)
    left = [
        (a, b)
        for place, (a, b) in enumerate(links)
        if place not in without and a not in failed and b not in failed and a != b
    ]
    before, after = _joined(links), _joined(left)
    touched = failed | {end for place in without for end in links[place]}
    # Parts of the network that the failure does not touch are no matter.
    reached = _reached(touched, before)
    parts = _parts(reached - failed, after)
    rest = max(parts, key=lambda part: (len(part), -min(part)), default=frozenset[int]())
    cut_off = reached - failed - rest
    return Impact(frozenset(cut_off), frozenset(_two_ways(before, reached) - _two_ways(after, rest) - cut_off - failed))


def _joined(links: Iterable[Pair]) -> dict[int, list[tuple[int, int]]]:
    """Device -> the devices that it is joined to, with the place of the link."""
    found: dict[int, list[tuple[int, int]]] = defaultdict(list)
    for place, (a, b) in enumerate(links):
        found[a].append((b, place))
        found[b].append((a, place))
    return found


def _reached(start: Iterable[int], joined: Mapping[int, list[tuple[int, int]]]) -> set[int]:
    reached = set(start)
    waiting = list(reached)
    while waiting:
        more = {other for other, _ in joined.get(waiting.pop(), ())} - reached
        reached |= more
        waiting += more
    return reached


def _parts(devices: Collection[int], joined: Mapping[int, list[tuple[int, int]]]) -> list[frozenset[int]]:
    found, left = [], set(devices)
    while left:
        part = _reached([min(left)], joined)
        found.append(frozenset(part))
        left -= part
    return found


def _two_ways(joined: Mapping[int, list[tuple[int, int]]], devices: Collection[int]) -> set[int]:
    """The largest set of some devices between any two of which there are two ways that share no link; none if that is one device."""
    bridges = _bridges(joined, devices)
    solid = {
        device: [(other, place) for other, place in joined.get(device, ()) if place not in bridges]
        for device in devices
    }
    largest = max(_parts(devices, solid), key=lambda part: (len(part), -min(part)), default=frozenset[int]())
    return set(largest) if len(largest) > 1 else set()


def _bridges(joined: Mapping[int, list[tuple[int, int]]], devices: Collection[int]) -> set[int]:
    """The links without which two devices would have no way to each other (Tarjan, 1974)."""
    number: dict[int, int] = {}
    lowest: dict[int, int] = {}
    found = set()
    for root in sorted(devices):
        if root in number:
            continue
        number[root] = lowest[root] = len(number)
        waiting = [(root, -1, iter(joined.get(root, ())))]
        while waiting:
            here, came_by, others = waiting[-1]
            for other, place in others:
                if place == came_by:
                    continue
                if other in number:
                    lowest[here] = min(lowest[here], number[other])
                    continue
                number[other] = lowest[other] = len(number)
                waiting.append((other, place, iter(joined.get(other, ()))))
                break
            else:
                waiting.pop()
                if waiting:
                    above = waiting[-1][0]
                    lowest[above] = min(lowest[above], lowest[here])
                    if lowest[here] > number[above]:
                        found.add(came_by)
    return found
