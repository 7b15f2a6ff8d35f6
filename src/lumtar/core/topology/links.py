"""Links, from what devices saw at their ports: by both ends or by one, and what contradicts them."""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum


class Evidence(StrEnum):
    """How a link is known."""

    BOTH_ENDS = "both ends"
    ONE_END = "one end"
    ITSELF = "itself"
    """A port that sees itself or another port of its own device: a loop, a mirror, or a cable that is meant so."""


@dataclass(frozen=True, slots=True)
class End:
    """One end of a link; the port is None where the device does not say which one it is."""

    device: int
    port: int | None


@dataclass(frozen=True, slots=True)
class Sighting:
    """A device saw another one of the inventory at one of its ports."""

    key: int
    here: End
    there: End


@dataclass(frozen=True, slots=True)
class Link:
    """Two ends, who saw it, and why it may be otherwise.

    Attributes
    ----------
    sightings : keys of what was seen
    contradiction : what the other end says instead; empty if nothing speaks against it
    """

    a: End
    b: End
    evidence: Evidence
    sightings: tuple[int, ...]
    contradiction: str = ""


def links(sightings: Sequence[Sighting]) -> list[Link]:
    """The links that follow from what was seen, in the order of their ends.

    What two devices say of each other is one link if each names the other's port, or names none and no other link can be meant.
    """
    at: dict[End, list[Sighting]] = defaultdict(list)
    between: dict[tuple[int, int], list[Sighting]] = defaultdict(list)
    # An agent may tell of one neighbour in several rows, by several names of its port: that is one sighting.
    same: dict[tuple[End, End], list[int]] = defaultdict(list)
    for each in sorted(sightings, key=lambda one: (one.here.device, one.here.port or 0, one.key)):
        same[each.here, each.there].append(each.key)
    ordered = [Sighting(keys[0], here, there) for (here, there), keys in same.items()]
    for each in ordered:
        at[each.here].append(each)
        between[each.here.device, each.there.device].append(each)
    done: set[int] = set()
    found = []
    for each in ordered:
        if each.key in done:
            continue
        done.add(each.key)
        if each.here.device == each.there.device:
            back = [other for other in at[each.there] if other.there == each.here]
            done.update(other.key for other in back)
            found.append(Link(each.here, each.there, Evidence.ITSELF, _keys(same, each, *back)))
            continue
        back = [other for other in between[each.there.device, each.here.device] if other.key not in done]
        if other := _reverse(each, back, between[each.here.device, each.there.device]):
            done.add(other.key)
            a, b = End(each.here.device, each.here.port), End(other.here.device, other.here.port)
            found.append(Link(a, b, Evidence.BOTH_ENDS, _keys(same, each, other)))
        else:
            found.append(Link(each.here, each.there, Evidence.ONE_END, _keys(same, each), _contradiction(each, at)))
    return found


def _keys(same: dict[tuple[End, End], list[int]], *sightings: Sighting) -> tuple[int, ...]:
    return tuple(sorted({key for each in sightings for key in same[each.here, each.there]}))


def _reverse(seen: Sighting, back: Sequence[Sighting], same_way: Sequence[Sighting]) -> Sighting | None:
    """What the other end says of the same link."""
    exact = [each for each in back if each.here == seen.there and each.there.port in (seen.here.port, None)]
    exact += [each for each in back if each not in exact and each.there == seen.here and seen.there.port is None]
    if exact:
        return exact[0]
    # Neither names a port that is known: it is clear only where there is one link between the two.
    if len(back) == 1 and len(same_way) == 1 and seen.there.port is None and back[0].there.port is None:
        return back[0]
    return None


def _contradiction(seen: Sighting, at: dict[End, list[Sighting]]) -> str:
    """Whether the port that was named says that somebody else is at its other end."""
    others = at.get(seen.there, []) if seen.there.port is not None else []
    return "the other port sees another neighbour" if _elsewhere(seen, others) else ""


def _elsewhere(seen: Sighting, others: Iterable[Sighting]) -> bool:
    return any(
        other.there.device != seen.here.device or other.there.port not in (seen.here.port, None) for other in others
    )
