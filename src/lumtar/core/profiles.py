"""Profiles: how a kind of device is recognised, and what is read from it."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from lumtar.core.conditions import Condition, Field, Kind, is_under
from lumtar.core.counters import TICKS
from lumtar.core.refusal import Refusal


class DeviceKind(StrEnum):
    """What a box is."""

    SWITCH = "switch"
    ROUTER = "router"
    FIREWALL = "firewall"
    CONTROLLER = "wireless controller"
    ACCESS_POINT = "access point"
    STORAGE = "storage switch"
    POWER = "power supply"
    SERVER = "server"
    OTHER = "other"


class Table(StrEnum):
    """A standard table that a poll can read."""

    INTERFACES = "interfaces"
    PROCESSORS = "processors"
    SENSORS = "sensors"
    ENTITY = "inventory"
    STORAGE = "memory and storage"
    STATES = "fans and power supplies"
    POWER = "power over Ethernet"
    ETHERNET = "Ethernet errors"
    NEIGHBOURS = "neighbours"
    BRIDGE = "bridge"
    ADDRESSES = "addresses"
    ROUTES = "routes"


def every_table() -> list[str]:
    """What a profile reads unless it says otherwise."""
    return [str(table) for table in Table]


TABLES = {
    Table.INTERFACES: "IF-MIB ifTable and ifXTable (RFC 2863)",
    Table.PROCESSORS: "HOST-RESOURCES-MIB hrProcessorTable (RFC 2790)",
    Table.SENSORS: "ENTITY-SENSOR-MIB entPhySensorTable (RFC 3433)",
    Table.ENTITY: "ENTITY-MIB entPhysicalTable (RFC 6933): maker, model, serial number, software",
    Table.STORAGE: "HOST-RESOURCES-MIB hrStorageTable (RFC 2790): share of memory and disks in use",
    Table.STATES: "ENTITY-STATE-MIB entStateOper (RFC 4268) of fans and power supplies",
    Table.POWER: "POWER-ETHERNET-MIB (RFC 3621): budget, use, and each port",
    Table.ETHERNET: "EtherLike-MIB dot3StatsTable (RFC 3635): FCS, alignment, late collisions, duplex; every five minutes",
    Table.NEIGHBOURS: "LLDP-MIB or LLDP-V2-MIB (IEEE 802.1AB): who is at the other end of each port; every five minutes",
    Table.BRIDGE: "BRIDGE-MIB and Q-BRIDGE-MIB (RFC 4188, 4363), IEEE8023-LAG-MIB: forwarding table, spanning tree, VLANs, aggregates; every five minutes",
    Table.ADDRESSES: "IP-MIB (RFC 4293): its addresses, and those that it learnt of others (ARP, neighbour discovery); every five minutes",
    Table.ROUTES: "IP-FORWARD-MIB (RFC 4292): where it sends packets; every five minutes",
}

SYSTEM_FIELDS = (
    Field("sys_object_id", Kind.OID, "sysObjectID"),
    Field("sys_descr", Kind.TEXT, "sysDescr"),
    Field("sys_name", Kind.TEXT, "sysName"),
    Field("location", Kind.TEXT, "sysLocation"),
    Field("contact", Kind.TEXT, "sysContact"),
)
MOST_OBJECTS = 100
MOST_INSTANCES = 200


def check_oid(oid: str) -> str:
    """An object identifier as it is kept.

    Raises
    ------
    Refusal
        with a sentence for the person who entered it
    """
    wanted = oid.strip().strip(".")
    parts = wanted.split(".")
    if not re.fullmatch(r"\d+(\.\d+)+", wanted) or parts[0] not in ("0", "1", "2") or len(parts) > 128:
        raise Refusal(f"“{oid[:60]}” is not an object identifier, like 1.3.6.1.4.1.32473.2.1.0.")
    if any(int(part) >= 2**32 for part in parts) or (parts[0] != "2" and int(parts[1]) > 39):
        raise Refusal(f"“{oid[:60]}” holds a number that is too large for an object identifier.")
    return wanted


def number_of(value: object, text: bool) -> float | None:
    """The number that a device's answer holds; None if it holds none.

    Parameters
    ----------
    text : take the first number of a text
    """
    if isinstance(value, int):
        return float(value)
    if text and isinstance(value, bytes) and (match := re.search(rb"-?\d+(?:\.\d+)?", value[:255])):
        return float(match[0])
    return None


def rate_of(before: float, after: float, bits: int, seconds: float) -> float | None:
    """Rate per second of a counter; None where it cannot be known.

    A 32-bit counter that went down has wrapped once (RFC 2578 section 7.1.6); a 64-bit one, which
    cannot wrap within an interval, was reset.
    """
    if seconds <= 0:
        return None
    if after >= before:
        return (after - before) / seconds
    return (after - before + TICKS) / seconds if bits == 32 else None


@dataclass(frozen=True, slots=True)
class Recognition:
    """How a profile knows its devices: prefixes of sysObjectID, a condition over the system group, or both."""

    number: int
    name: str
    prefixes: Sequence[str]
    condition: Condition


def recognise(values: Mapping[str, Any], profiles: Sequence[Recognition]) -> tuple[Recognition, str] | None:
    """The profile that fits a device, and why; the longest prefix wins, then the order of the profiles.

    A profile without prefixes fits by its condition alone, and only where no prefix does.
    """
    best: tuple[int, Recognition, str] | None = None
    object_id = str(values.get("sys_object_id") or "")
    for profile in profiles:
        fitting = max((prefix for prefix in profile.prefixes if is_under(object_id, prefix)), key=len, default="")
        if profile.prefixes and not fitting:
            continue
        if not profile.prefixes and not profile.condition.text:
            continue
        if not profile.condition(values) or (best is not None and len(fitting) <= best[0]):
            continue
        reasons = []
        if fitting:
            reasons.append(f"sysObjectID {object_id} lies under {fitting}")
        if profile.condition.text:
            reasons.append(f"it meets {profile.condition.text}")
        best = len(fitting), profile, " and ".join(reasons)
    return (best[1], best[2]) if best else None
