"""What changed between the ports that are kept of a device and those that it lists now: a comparison, nothing is stored."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

GONE = " is gone"
"""How the sentence about a port ends that is not listed any more."""
MOST_APART = 6
"""Ports with the same piece of news that are named one by one."""
Values = Mapping[str, Any]
"""A port by the names of its fields; ``gone_at`` is None as long as it is listed."""


class News(NamedTuple):
    """A sentence for the logbook, about the stored port with this key, or about the device."""

    key: int | None
    text: str


@dataclass(slots=True)
class PortChanges:
    """What is to be done.

    Attributes
    ----------
    new : places in the list of ports that are not stored yet
    changed : places of those that are stored otherwise
    gone : keys of stored ports that are not listed any more
    """

    new: list[int] = field(default_factory=list)
    changed: list[int] = field(default_factory=list)
    gone: list[int] = field(default_factory=list)
    news: list[News] = field(default_factory=list)


def compare_ports(
    stored: Mapping[int, Values], listed: Sequence[Values], matched: Mapping[int, int], is_read: bool = True
) -> PortChanges:
    """Compare the stored ports of a device, by key, with those that it lists.

    Parameters
    ----------
    matched : place in the list -> key, for what is stored (:func:`~lumtar.core.interface_matching.match_interfaces`)
    is_read : whether the device's profile reads ports at all
    """
    changes = PortChanges(new=[place for place in range(len(listed)) if place not in matched])
    renamed: list[News] = []
    moved: list[News] = []
    back: list[News] = []
    for place, key in sorted(matched.items()):
        before, after = stored[key], listed[place]
        label = after["label"]
        if before["gone_at"]:
            back.append(News(key, f"port {label} is listed again"))
        else:
            if before["label"] != label:
                renamed.append(News(key, f"port {before['label']} is now called {label}"))
            if before["if_index"] != after["if_index"]:
                moved.append(News(key, f"port {label} has ifIndex {after['if_index']} now, was {before['if_index']}"))
        if any(before[name] != value for name, value in after.items()):
            changes.changed.append(place)
    there = set(matched.values())
    changes.gone = [key for key, before in stored.items() if key not in there and not before["gone_at"]]
    if stored and changes.new:
        renamed.append(News(None, f"{len(changes.new)} new {'port' if len(changes.new) == 1 else 'ports'}"))
    changes.news = [
        *renamed,
        *_in_short(moved, "ports have another ifIndex now; each keeps its history"),
        *_in_short(back, "ports are listed again"),
    ]
    if changes.gone and not is_read:
        text = f"its profile does not read ports: {len(changes.gone)} are not listed any more, their history is kept"
        changes.news.append(News(None, text))
    else:
        changes.news += [News(key, f"port {stored[key]['label']}{GONE}") for key in changes.gone]
    return changes


def _in_short(news: list[News], many: str) -> list[News]:
    """A few pieces of news as they are, many in one line."""
    return [News(None, f"{len(news)} {many}")] if len(news) > MOST_APART else news
