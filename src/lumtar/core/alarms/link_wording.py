"""Sentences about links and bridges."""

from collections.abc import Callable, Mapping
from typing import Any

from lumtar.core.units import counted, duration, rate

More = Mapping[str, Any]


def _listed(names: Any) -> str:
    return ", ".join(str(each) for each in names or ())


def _lost(value: float, more: More) -> str:
    return (
        f"{more.get('here', 'A port')} does not see {more.get('expected') or 'its neighbour'} any more, though it is up"
    )


def _changed(value: float, more: More) -> str:
    return f"{more.get('here', 'A port')} sees {more.get('seen', 'another neighbour')} instead of {more.get('expected') or 'its neighbour'}"


def _unexpected(value: float, more: More) -> str:
    return f"{more.get('here', 'A port')} sees {more.get('seen', 'a neighbour')}, and no neighbour is expected there"


def _one_way(value: float, more: More) -> str:
    hears, unheard = more.get("hears", "One end"), more.get("unheard", "the other end")
    return f"{hears} hears {unheard}, which does not hear it"


def _ends(more: More, what: Callable[[Any], str], key: str) -> str:
    names, values = more.get("ends", ()), more.get(key, ())
    return " and ".join(f"{what(value)} at {name}" for name, value in zip(names, values, strict=False))


def _speeds(value: float, more: More) -> str:
    return f"The ends run at different speeds: {_ends(more, rate, 'speeds')}"


def _duplex(value: float, more: More) -> str:
    return f"{more.get('half', 'One end')} is half duplex, {more.get('full', 'the other end')} is full duplex"


def _mtu(value: float, more: More) -> str:
    return f"The ends carry packets of different sizes: {_ends(more, lambda size: f'{size:,} octets', 'mtus')}"


def _vlans(value: float, more: More) -> str:
    parts = [
        f"{_listed(only)} only at {name}"
        for name, only in zip(more.get("ends", ()), more.get("only", ()), strict=False)
        if only
    ]
    return f"{counted(round(value), 'VLAN')} at one end only: {'; '.join(parts)}"


def _members(value: float, more: More) -> str:
    names = more.get("members_down", ())
    return f"{len(names)} of {counted(more.get('members', len(names)), 'member').lower()} down: {_listed(names)}"


def _alone(value: float, more: More) -> str:
    names = _listed(more.get("alone"))
    verb = "has" if round(value) == 1 else "have"
    return f"{counted(round(value), 'device')} {verb} one way left while it is down{f': {names}' if names else ''}"


def _role(value: float, more: More) -> str:
    return f"It became {more.get('role') or 'another'} port of the spanning tree {duration(value)} ago"


def _root(value: float, more: More) -> str:
    return f"Another bridge became the root of its spanning tree {duration(value)} ago: {more.get('root') or 'none'}"


RAISED: dict[str, Callable[[float, More], str]] = {
    "link_lost": _lost,
    "link_changed": _changed,
    "link_unexpected": _unexpected,
    "link_one_way": _one_way,
    "link_slower_end": _speeds,
    "link_duplex": _duplex,
    "link_mtu": _mtu,
    "link_vlans": _vlans,
    "link_members_down": _members,
    "link_alone": _alone,
    "link_role_age": _role,
    "bridge_root_age": _root,
}
CLEARED = {
    "link_lost": "It sees its neighbour again, or what is there was accepted",
    "link_changed": "It sees the expected neighbour again, or the other one was accepted",
    "link_unexpected": "The neighbour is gone, or was accepted",
    "link_one_way": "Both ends hear each other",
    "link_slower_end": "Both ends run at the same speed",
    "link_duplex": "Both ends have the same duplex",
    "link_mtu": "Both ends carry packets of the same size",
    "link_vlans": "Both ends have the same VLANs",
    "link_members_down": "All its members are up",
    "link_alone": "Nobody is left with one way because of it",
    "link_role_age": "Its role in the spanning tree has not changed since",
    "bridge_root_age": "The root of its spanning tree has not changed since",
}
