"""Groups of ports: what their conditions can ask, and groups within groups."""

from collections.abc import Collection, Iterable, Mapping

from lumtar.core.conditions import Field, Kind
from lumtar.core.labels import PORT_FIELDS

ADDRESS = Field("address", Kind.ADDRESS, "of the device: address in 10.20.0.0/16")
ASKED = {
    "label",
    "alias",
    "name",
    "descr",
    "speed",
    "device",
    "site",
    "maker",
    "model",
    "profile",
    "kind",
    "neighbour",
    "neighbour_kind",
}
GROUP_FIELDS = (
    *(field for field in PORT_FIELDS if field.name in ASKED),
    Field("role", Kind.TEXT, "what the port is for: uplink, trunk, access, wan …"),
    Field("tag", Kind.WORDS, "of the port or its device: a key, or key=value"),
    Field("group", Kind.WORDS, "that the device was put into"),
    ADDRESS,
)
"""What the condition of a group can ask about a port."""
OF_DEVICE = {"device", "site", "maker", "model", "profile", "kind", "tag", "group", "address"}
DEVICE_FIELDS = tuple(field for field in GROUP_FIELDS if field.name in OF_DEVICE)
"""What a condition can ask about a device."""
COMPONENT_FIELDS = (
    Field("component", Kind.TEXT, "the component's name"),
    Field("part", Kind.TEXT, "its kind: processor, memory, storage, sensor, fan, power …"),
    *DEVICE_FIELDS,
)
"""What a condition can ask about a component."""

NAMED_FIELDS = (Field("group", Kind.TEXT, "its name"),)
"""What a condition can ask about a group itself."""

TRAFFIC_FIELDS = (Field("traffic", Kind.TEXT, "what it is called"),)
"""What a condition can ask about watched traffic."""

CONTROLLER_FIELDS = (Field("controller", Kind.TEXT, "its name"),)
"""What a condition can ask about a controller."""

CONTROLLER_ITEM_FIELDS = (
    *CONTROLLER_FIELDS,
    Field("called", Kind.TEXT, "the name of the part"),
    Field("told", Kind.TEXT, "what it is: device, transport or tunnel"),
    Field("device", Kind.TEXT, "the device that it is at"),
    Field("site", Kind.TEXT, "the site of that device"),
)
"""What a condition can ask about what a controller tells of."""

PATH_FIELDS = (
    Field("path", Kind.TEXT, "what it is called"),
    Field("site", Kind.TEXT, "where its probes come from"),
    Field("goal", Kind.TEXT, "the site that they go to"),
    Field("class", Kind.TEXT, "what is promised of it"),
    Field("provider", Kind.TEXT, "whose line its probes take"),
    Field("probe", Kind.TEXT, "how it is measured: stamp, icmp, udp, tcp, dns, http, device"),
    Field("path_group", Kind.WORDS, "groups that it is in"),
)
"""What a condition can ask about a path."""

STRANGER_FIELDS = (Field("list", Kind.TEXT, "the list that does not know it"),)
"""What a condition can ask about a stranger."""


def within(subgroups: Mapping[int, Collection[int]], group: int) -> set[int]:
    """A group and all groups that are in it, directly or through others. ``subgroups`` are those that each group holds."""
    inside: set[int] = set()
    waiting = [group]
    while waiting:
        each = waiting.pop()
        if each not in inside:
            inside.add(each)
            waiting += subgroups.get(each, ())
    return inside


def circle(subgroups: Mapping[int, Collection[int]], group: int, wanted: Iterable[int]) -> int | None:
    """The first of the wanted subgroups that contains the group itself, which therefore cannot be in it."""
    return next((each for each in wanted if group in within(subgroups, each)), None)
