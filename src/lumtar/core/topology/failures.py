"""What explains what: silent devices and links that are down, over the links between devices.

Nothing has to be known of where Lumtar itself stands: a device that answers is reached, so what is silent is cut off where every
way from any answering device leads over something else that failed.
"""

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

from lumtar.core.topology.links import End


class Failure(NamedTuple):
    """A device that does not answer, or a port that is down."""

    kind: str
    number: int


def device(number: int) -> Failure:
    """That a device does not answer."""
    return Failure("device", number)


def port(number: int) -> Failure:
    """That a port is down."""
    return Failure("port", number)


class Why(StrEnum):
    """Why something follows from something else."""

    BEHIND = "behind"
    """Every way to it leads over one device that does not answer."""
    BEHIND_SEVERAL = "behind several"
    """Every way to it leads over devices that do not answer, but not over one alone."""
    LINK_DOWN = "link down"
    """The only link to it, or the last one that was left, is down."""
    LEADS_THERE = "leads there"
    """The port leads to a device of which every link is down, and which does not answer."""
    OTHER_END = "other end"
    """The other end of the same link is down as well."""


@dataclass(frozen=True, slots=True)
class Explanation:
    """What something follows from, why, and over which device or port that is."""

    cause: Failure
    why: Why
    over: Failure


Joined = Mapping[int, Sequence[tuple[int, int | None, int | None]]]
"""Device -> the devices that it is joined to, with its own port and that of the other one."""


def explain(
    silent: Mapping[int, float], down: Mapping[int, float], links: Iterable[tuple[End, End]]
) -> dict[Failure, Explanation]:
    """What follows from what.

    Parameters
    ----------
    silent : devices that do not answer, and since when
    down : ports of which an alarm says that they are down, and since when
    links : of a network that is not ours the device is a number of its own that is never silent

    Returns
    -------
    of each failure that follows from another one, which; a cause follows from nothing itself
    """
    pairs = [(a, b) for a, b in links if a.device != b.device]
    found: dict[Failure, Explanation] = {}
    for a, b in pairs:
        if a.port in down and b.port in down and a.port is not None and b.port is not None:
            first, second = sorted((a.port, b.port), key=lambda each: (down[each], each))
            found[port(second)] = Explanation(port(first), Why.OTHER_END, port(first))
    usable: dict[int, list[tuple[int, int | None, int | None]]] = defaultdict(list)
    broken: dict[int, list[tuple[int, int | None, int | None]]] = defaultdict(list)
    for a, b in pairs:
        is_down = a.port in down or b.port in down
        for here, there in ((a, b), (b, a)):
            if here.device in silent:
                (broken if is_down else usable)[here.device].append((there.device, here.port, there.port))
    _behind(silent, usable, found)
    _cut_off(silent, down, usable, broken, found)
    return {failure: _rooted(failure, found) for failure in found}


def _behind(silent: Mapping[int, float], usable: Joined, found: dict[Failure, Explanation]) -> None:
    """Devices that are reached over silent ones only, all of whose links are up."""
    entries = [each for each in silent if any(other not in silent for other, _, _ in usable.get(each, ()))]
    above = dominators(entries, usable, silent)
    for each, upper in above.items():
        if each in entries:
            continue
        if upper is None:
            first = _first_entry(each, entries, usable, silent)
            found[device(each)] = Explanation(device(first), Why.BEHIND_SEVERAL, device(first))
        else:
            found[device(each)] = Explanation(device(upper), Why.BEHIND, device(upper))


def _first_entry(start: int, entries: Collection[int], usable: Joined, silent: Mapping[int, float]) -> int:
    """The device that fell silent first among those over which one is reached."""
    reached, waiting = {start}, [start]
    while waiting:
        here = waiting.pop()
        if here in entries:
            continue
        more = {other for other, _, _ in usable.get(here, ()) if other in silent} - reached
        reached |= more
        waiting += more
    return min(reached & set(entries), key=lambda each: (silent[each], each))


def _cut_off(
    silent: Mapping[int, float],
    down: Mapping[int, float],
    usable: Joined,
    broken: Joined,
    found: dict[Failure, Explanation],
) -> None:
    """Parts of which every link to the rest is down: by that link, or by the one device that they all end at."""
    done = {each for each in silent if any(other not in silent for other, _, _ in usable.get(each, ()))}
    done |= {failure.number for failure in found if failure.kind == "device"}
    for start in silent:
        if start in done:
            continue
        part, waiting = {start}, [start]
        while waiting:
            more = {other for other, _, _ in usable.get(waiting.pop(), ()) if other in silent} - part
            part |= more
            waiting += more
        done |= part
        outward = [
            (each, own, other) for each in part for there, own, other in broken.get(each, ()) if there not in part
        ]
        if not outward:
            continue
        ends = {each for each, _, _ in outward}
        ports = [end for _, own, other in outward for end in (other, own) if end in down and end is not None]
        if len(outward) > 1 and len(ends) == 1:
            (hub,) = ends
            found |= {device(each): Explanation(device(hub), Why.BEHIND, device(hub)) for each in part if each != hub}
            found |= {port(each): Explanation(device(hub), Why.LEADS_THERE, device(hub)) for each in ports}
        elif ports:
            # Of several links to different devices, the last one that was left decided.
            last = max(ports, key=lambda each: (down[each], each))
            for each in part:
                found[device(each)] = Explanation(port(last), Why.LINK_DOWN, port(last))


def _rooted(failure: Failure, found: Mapping[Failure, Explanation]) -> Explanation:
    """The explanation with the cause at its very beginning; a circle is none."""
    own = found[failure]
    cause, passed = own.cause, {failure}
    while cause in found and cause not in passed:
        passed.add(cause)
        cause = found[cause].cause
    return Explanation(cause, own.why, own.over)


def dominators(entries: Sequence[int], joined: Joined, within: Collection[int]) -> dict[int, int | None]:
    """Of each device that is reached from the entries, the outermost one over which every way leads; None if there is no one.

    By the iterative algorithm of Cooper, Harvey and Kennedy ("A Simple, Fast Dominance Algorithm", 2001) from a root before all
    entries, within some devices.
    """
    order: list[int | None] = []
    # None stands for the root, which every entry comes from.
    before: dict[int | None, list[int | None]] = defaultdict(list)
    for each in entries:
        before[each].append(None)
    seen = set(entries)
    for entry in entries:
        waiting = [(entry, iter(_next(entry, joined, within)))]
        while waiting:
            here, others = waiting[-1]
            for other in others:
                before[other].append(here)
                if other not in seen:
                    seen.add(other)
                    waiting.append((other, iter(_next(other, joined, within))))
                    break
            else:
                order.append(here)
                waiting.pop()
    order.append(None)
    number = {each: place for place, each in enumerate(order)}
    above: dict[int | None, int | None] = {None: None}
    changed = True
    while changed:
        changed = False
        for node in reversed(order[:-1]):
            upper = _nearest([other for other in before[node] if other in above], above, number)
            if node not in above or above[node] != upper:
                above[node] = upper
                changed = True
    return {node: _outermost(node, above) for node in order if node is not None}


def _next(here: int, joined: Joined, within: Collection[int]) -> list[int]:
    return [other for other, _, _ in joined.get(here, ()) if other in within]


def _nearest(
    known: Sequence[int | None], above: Mapping[int | None, int | None], number: Mapping[int | None, int]
) -> int | None:
    """The lowest one that is above all of some."""
    upper = known[0]
    for each in known[1:]:
        other = each
        while upper != other:
            while number[upper] < number[other]:
                upper = above[upper]
            while number[other] < number[upper]:
                other = above[other]
    return upper


def _outermost(each: int, above: Mapping[int | None, int | None]) -> int | None:
    top = each
    while (upper := above[top]) is not None:
        top = upper
    return top if top != each else None
