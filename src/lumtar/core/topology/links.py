"""Links, from what devices saw at their ports and people entered: how each is known, and what contradicts it."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum


class Evidence(StrEnum):
    """How a link is known."""

    BOTH_ENDS = "both ends"
    ONE_END = "one end"
    FORWARDING = "forwarding tables"
    """It follows from at which ports bridges hear the two."""
    BY_HAND = "by hand"
    ITSELF = "itself"
    """A port that sees itself or another port of its own device: a loop, a mirror, or a cable that is meant so."""


@dataclass(frozen=True, slots=True)
class End:
    """One end of a link; the port is None where the device does not say which one it is."""

    device: int
    port: int | None


@dataclass(frozen=True, slots=True)
class Sighting:
    """A device saw another one of the inventory at one of its ports, or somebody says that the two are joined."""

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
    entered : key of the link that somebody entered, if one says the same
    inferred : key of the link that was inferred from forwarding tables, if it is one
    """

    a: End
    b: End
    evidence: Evidence
    sightings: tuple[int, ...]
    contradiction: str = ""
    entered: int | None = None
    inferred: int | None = None


def links(
    sightings: Sequence[Sighting], by_hand: Sequence[Sighting] = (), inferred: Sequence[Sighting] = ()
) -> list[Link]:
    """The links that follow from what was seen, inferred and entered; what was seen comes first, in the order of the ends.

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
            says = "the other port sees another neighbour" if _is_contradicted(each, at) else ""
            found.append(Link(each.here, each.there, Evidence.ONE_END, _keys(same, each), says))
    return _with_entered(_with_inferred(found, inferred), by_hand, at)


def _with_inferred(found: list[Link], inferred: Sequence[Sighting]) -> list[Link]:
    """Links that were seen, and those that were inferred at ports where nothing was seen; none is seen between the two devices."""
    taken = {end for link in found for end in (link.a, link.b) if end.port is not None}
    joined = {frozenset((link.a.device, link.b.device)) for link in found}
    for each in sorted(inferred, key=lambda one: one.key):
        ends = {each.here, each.there}
        if taken.isdisjoint(ends) and frozenset((each.here.device, each.there.device)) not in joined:
            found.append(Link(each.here, each.there, Evidence.FORWARDING, (), inferred=each.key))
    return found


def _with_entered(found: list[Link], by_hand: Sequence[Sighting], at: dict[End, list[Sighting]]) -> list[Link]:
    """Links that were seen, with those that people entered: one that says the same as what was seen adds to it."""
    places: dict[tuple[int, int], list[int]] = defaultdict(list)
    for place, link in enumerate(found):
        places[link.a.device, link.b.device].append(place)
        places[link.b.device, link.a.device].append(place)
    for each in sorted(by_hand, key=lambda one: one.key):
        same = [
            place
            for place in places[each.here.device, each.there.device]
            if _are_one(found[place], each.here, each.there)
        ]
        if len(same) == 1:
            found[same[0]] = _fuller(found[same[0]], each)
            continue
        is_otherwise = _is_contradicted(each, at) or _is_contradicted(Sighting(each.key, each.there, each.here), at)
        says = "one of its ports sees another neighbour" if is_otherwise else ""
        found.append(Link(each.here, each.there, Evidence.BY_HAND, (), says, each.key))
    return found


def _are_one(link: Link, here: End, there: End) -> bool:
    """Whether a link that was seen can be one between two ends: the same devices, and no port that is another."""
    if link.entered is not None:
        return False
    ends = (link.a, link.b) if link.a.device == here.device else (link.b, link.a)
    pairs = tuple(zip(ends, (here, there), strict=True))
    return all(
        one.device == other.device and (one.port == other.port or None in (one.port, other.port))
        for one, other in pairs
    )


def _fuller(link: Link, entered: Sighting) -> Link:
    """A link that was seen, with the ports that only the entered one names."""
    known = {end.device: end for end in (entered.here, entered.there)}
    a, b = (known[end.device] if end.port is None else end for end in (link.a, link.b))
    return replace(link, a=a, b=b, entered=entered.key)


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


def _is_contradicted(seen: Sighting, at: dict[End, list[Sighting]]) -> bool:
    """Whether the port that was named says that somebody else is at its other end."""
    others = at.get(seen.there, []) if seen.there.port is not None else []
    return any(
        other.there.device != seen.here.device or other.there.port not in (seen.here.port, None) for other in others
    )
