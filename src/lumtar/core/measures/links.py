"""Measures of links and of bridges: whether what hangs on what is as it should be. From what devices told last."""

from dataclasses import dataclass, field
from functools import partial
from operator import attrgetter
from typing import Any

from lumtar.core.measures.rates import Floats
from lumtar.core.measures.registry import Measure, register

LINK, BRIDGE = "link", "bridge"


@dataclass(frozen=True, slots=True)
class Links:
    """n links, each known by one of its ports. 1 is yes, 0 is no, NaN is not known.

    Attributes
    ----------
    lost : the neighbour that is expected at the port is not seen there, though the port is up and the other device answers
    changed : another neighbour is seen than the expected one
    unexpected : a neighbour is seen where none is expected
    one_way : one end hears the other one and is not heard by it
    slower_end : the ends state different speeds
    duplex : one end is half duplex, the other one full duplex
    mtu : the ends carry packets of different sizes
    vlans : VLANs that are set at one end only
    members_down : of an aggregate the share of its members that carry nothing, per cent
    alone : devices that have one way left to the rest, and had two, since the link does not carry anything
    role_age : seconds since the port's role in the spanning tree changed; NaN if it was never seen to change
    facts : of each link, what a sentence about each of its values tells
    """

    lost: Floats
    changed: Floats
    unexpected: Floats
    one_way: Floats
    slower_end: Floats
    duplex: Floats
    mtu: Floats
    vlans: Floats
    members_down: Floats
    alone: Floats
    role_age: Floats
    facts: tuple[dict[str, Any], ...]


@dataclass(frozen=True, slots=True)
class Bridges:
    """n bridges.

    Attributes
    ----------
    root_age : seconds since the root of its spanning tree became another one; NaN if that was never seen
    changes : topology changes an hour (dot1dStpTopChanges)
    moves : stations that came from another port within the last hour
    rebound : addresses that belong to another MAC address than before, within the last hour
    """

    root_age: Floats
    changes: Floats
    moves: Floats
    rebound: Floats
    facts: tuple[dict[str, Any], ...] = field(default_factory=tuple)


def _facts(frame: Any, n: int, name: str) -> dict[str, Any]:
    known: dict[str, Any] = frame.facts[n].get(name, {}) if frame.facts else {}
    return known


for name, words, unit, alarm in (
    ("lost", "Neighbour lost", "", "neighbour-lost"),
    ("changed", "Neighbour changed", "", "neighbour-changed"),
    ("unexpected", "Unexpected neighbour", "", "unexpected-neighbour"),
    ("one_way", "One-way link", "", "one-way-link"),
    ("slower_end", "Ends of different speed", "", "speed-mismatch"),
    ("duplex", "Duplex mismatch", "", "duplex-mismatch"),
    ("mtu", "MTU mismatch", "", "mtu-mismatch"),
    ("vlans", "VLANs at one end only", "", "vlan-mismatch"),
    ("members_down", "Members of the aggregate that are down", "%", "aggregate-member-down"),
    ("alone", "Devices left with one way", "", "redundancy-lost"),
    ("role_age", "Time since its spanning-tree role changed", "s", "spanning-tree-role-changed"),
):
    register(
        Measure(f"link_{name}", words, unit, LINK, attrgetter(name), alarm=alarm, facts=partial(_facts, name=name))
    )

for name, words, unit, alarm in (
    ("root_age", "Time since its spanning-tree root changed", "s", "spanning-tree-root-changed"),
    ("changes", "Spanning-tree topology changes an hour", "", "topology-changes"),
    ("moves", "Stations that moved within an hour", "", "stations-move"),
    ("rebound", "Addresses with another MAC address within an hour", "", "addresses-move"),
):
    register(
        Measure(
            f"bridge_{name}",
            words,
            unit,
            BRIDGE,
            attrgetter(name),
            alarm=alarm,
            facts=partial(_facts, name=name),
        )
    )
