"""Groups of ports: what their conditions can ask, and groups within groups."""

from collections.abc import Collection, Iterable, Mapping

from lumtar.core.conditions import Field, Kind
from lumtar.core.labels import PORT_FIELDS

ASKED = {"label", "alias", "name", "descr", "speed", "device", "site", "maker", "model", "profile", "kind"}
GROUP_FIELDS = (
    *(field for field in PORT_FIELDS if field.name in ASKED),
    Field("role", Kind.TEXT, "what the port is for: uplink, trunk, access, wan …"),
    Field("tag", Kind.WORDS, "of the port or its device: a key, or key=value"),
    Field("group", Kind.WORDS, "that the device was put into"),
)
"""What the condition of a group can ask about a port."""


def within(parts: Mapping[int, Collection[int]], group: int) -> set[int]:
    """A group and all groups that are in it, directly or through others. ``parts`` are the groups in each group."""
    found: set[int] = set()
    waiting = [group]
    while waiting:
        each = waiting.pop()
        if each not in found:
            found.add(each)
            waiting += parts.get(each, ())
    return found


def circle(parts: Mapping[int, Collection[int]], group: int, wanted: Iterable[int]) -> int | None:
    """The first of the wanted parts that contains the group itself, which therefore cannot be in it."""
    return next((each for each in wanted if group in within(parts, each)), None)
