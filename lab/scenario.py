"""Oskelund County Libraries: the made-up network of the demonstration.

Traffic starts at ports where somebody sits and is summed along its way: every uplink's
counters are the sum of what its branch carries, so both ends of a link agree.
"""

import zlib
from dataclasses import dataclass, field
from functools import cached_property

from lab.traffic import Sources

SITES = [
    "Central",
    "Depot",
    "Alderwick",
    "Brennock",
    "Castleby",
    "Dunmere",
    "Eastholt",
    "Farrowby",
    "Garrow",
    "Hexwater",
    "Inverlade",
    "Kettlebrook",
    "Lindmoor",
    "Marbury",
    "Nettlecombe",
    "Oakhanger",
    "Pellwick",
    "Quarrendon",
    "Rushford",
    "Saltby",
    "Thornby",
    "Upwell",
    "Varrick",
    "Wheelbus",
]
PORT = 1161
COMMUNITY = "oskelund-read"
WRITE_COMMUNITY = "oskelund-write"
V3_USER = ("lumtar", "demo-auth-word", "demo-priv-word")
V3_WRITER = ("lumtar-writer", "demo-auth-word-w", "demo-priv-word-w")
ENTERPRISE = "1.3.6.1.4.1.32473"
"""The enterprise number that RFC 5612 reserves for examples."""

RESTART = f"{ENTERPRISE}.3.1"
"""What is set to 1 to restart a box, without its instance."""

LOST_POWER = f"{ENTERPRISE}.0.9"
"""The notification that a box sends with its last strength when its power goes."""
ETHERNET, TUNNEL, FIBRE_CHANNEL, PROPRIETARY, AGGREGATE = 6, 131, 56, 53, 161
MODELS = {
    "core": ("Fernhall Systems", "FH-5200 aggregation switch", 11),
    "acc": ("Fernhall Systems", "FH-2100 access switch", 12),
    "wan": ("Tarnbeck Networks", "TB-40 branch router", 21),
    "fw": ("Ironmoss", "IM-8 firewall", 31),
    "wlc": ("Lowgate Wireless", "LG-C2 wireless controller", 41),
    "fs": ("Cobbleford Storage", "CF-24 storage switch", 51),
    "ups": ("Halewick Power", "HP-3000 power supply", 61),
}
LABELLED_IN = {"wan": "descr", "fs": "name"}
"""Where a maker's boxes keep what people call a port, if not in ifAlias."""
TEMPLATES = {"alias": "", "descr": "{descr|name}", "name": "{name}"}
"""The profile's label template that fits."""
M, G = 1_000_000, 1_000_000_000


@dataclass
class Port:
    """One interface. ``terms`` says of which sources its octets are the sum: (source, weight, towards the client)."""

    index: int
    name: str
    alias: str = ""
    speed_bps: int = G
    kind: int = ETHERNET
    up: bool = True
    wide: bool = True
    sold_bps: tuple[int, int] | None = None
    terms: list[tuple[int, float, bool]] = field(default_factory=list)
    carrier: int = 0
    """The ifIndex of the port that it runs over, if it is a tunnel: it is down with that one."""
    aggregate: int = 0
    """The ifIndex of the aggregate that it is a member of."""


def said_of(family: str, port: Port) -> dict[str, str]:
    """What a box of this family says of a port in ifName, ifDescr and ifAlias."""
    where = LABELLED_IN.get(family, "alias")
    said = {"name": port.name, "descr": f"{family} port {port.name}", "alias": ""}
    if where == "descr":
        said["descr"] = ""
    if port.alias or where == "alias":
        said[where] = port.alias
    return said


@dataclass
class Box:
    """One device."""

    name: str
    site: str
    family: str
    address: str
    ports: list[Port] = field(default_factory=list)
    processors: int = 1
    sensors: list[tuple[str, float, float]] = field(default_factory=list)
    version3: bool = False
    up_days: float = 100.0
    also: tuple[str, ...] = ()
    """Further addresses that it answers at."""
    is_new: bool = False
    """It is not in the inventory yet: a sweep finds it."""

    @cached_property
    def seed(self) -> int:
        """A number of its own that is the same in every run."""
        return zlib.crc32(self.name.encode())

    def port(self, name: str) -> Port:
        """The port of that name."""
        return next(port for port in self.ports if port.name == name)


@dataclass
class Scenario:
    """All boxes, and the sources of their traffic."""

    boxes: list[Box]
    sources: Sources

    def box(self, name: str) -> Box:
        """The box of that name.

        Raises
        ------
        KeyError
        """
        for box in self.boxes:
            if box.name == name:
                return box
        raise KeyError(name)
