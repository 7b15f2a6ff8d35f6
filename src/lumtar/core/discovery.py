"""What a device says of itself, of its interfaces and of its components."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Described:
    """What a device says of itself (SNMPv2-MIB system, ENTITY-MIB chassis)."""

    sys_name: str
    sys_descr: str
    sys_object_id: str
    location: str
    contact: str
    maker: str = ""
    model: str = ""
    serial: str = ""
    software: str = ""
    engine_id: str = ""
    base_mac: str = ""


@dataclass(frozen=True, slots=True)
class PortDescribed:
    """What it says of one interface."""

    if_index: int
    name: str
    descr: str
    alias: str
    if_type: int
    mac: str
    speed_bps: int = 0


@dataclass(frozen=True, slots=True)
class ComponentDescribed:
    """What it says of one component, and how that is read.

    Attributes
    ----------
    index : within its table; of an object its whole identifier
    counts : it is a counter, of which a rate per second is kept
    text : its number is written as text
    total : of a share: the identifier of the object that it is a share of
    states : of an object whose number stands for a word: the device's numbers, and those of its kind for them
    """

    kind: str
    index: str
    name: str
    unit: str
    scale: float
    counts: bool = False
    text: bool = False
    total: str = ""
    states: tuple[tuple[int, int], ...] = ()

    @property
    def has_state(self) -> bool:
        """Its number stands for a word, not a quantity."""
        return self.unit == STATE


STATE = "state"
"""The unit of a component whose number stands for a word."""
