"""Reading one device: what a poll asks for, and the arrays that come of it."""

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.counters import HIGH_CAPACITY, TICKS, Snapshot
from lumtar.core.discovery import ComponentDescribed, Described, PortDescribed
from lumtar.core.ethernet import EVERY, Errors, Seen, counted
from lumtar.core.ledger import Status
from lumtar.core.own_objects import ExtraObject
from lumtar.core.own_tables import NeighbourTable, WirelessTables
from lumtar.core.profiles import Table
from lumtar.core.text import clean, mac_address
from lumtar.engine.collector.components import SELDOM, Asked, Count, ask, discover_objects, read_components
from lumtar.engine.collector.discovering import discover_components
from lumtar.engine.collector.ethernet import read_ethernet
from lumtar.wire import ber, oids
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.session import Refused, Session
from lumtar.wire.tables import Column, read_columns

WIDE = (
    oids.IF_HC_IN_OCTETS,
    oids.IF_HC_OUT_OCTETS,
    oids.IF_HC_IN_UCAST,
    oids.IF_HC_IN_MULTICAST,
    oids.IF_HC_IN_BROADCAST,
    oids.IF_HC_OUT_UCAST,
    oids.IF_HC_OUT_MULTICAST,
    oids.IF_HC_OUT_BROADCAST,
)
"""In the order of the first eight counters; they are read first, right behind sysUpTime."""
NARROW = {
    0: oids.IF_IN_OCTETS,
    1: oids.IF_OUT_OCTETS,
    2: oids.IF_IN_UCAST,
    3: oids.IF_IN_NUCAST,
    5: oids.IF_OUT_UCAST,
    6: oids.IF_OUT_NUCAST,
}
"""The 32-bit counters of IF-MIB's ifTable; multicast and broadcast are one there."""
TROUBLE = (oids.IF_IN_ERRORS, oids.IF_OUT_ERRORS, oids.IF_IN_DISCARDS, oids.IF_OUT_DISCARDS)
STATES = (oids.IF_OPER_STATUS, oids.IF_ADMIN_STATUS, oids.IF_HIGH_SPEED, oids.IF_COUNTER_DISCONTINUITY)


@dataclass(slots=True)
class Plan:
    """What is known about a device that makes its polls cheap.

    Attributes
    ----------
    tables, objects, neighbour_table, wireless_tables : what its profile reads
    discovered : what follows is known
    indexes : encoded ifIndex of every interface, in the device's order
    narrow : some interfaces have 32-bit counters only
    slow : some interfaces give their speed in ifSpeed only
    components : its components, and how each is read
    all_read_at : when all of them were read last; at other polls only those are that change fast
    known : the last values of objects that count, and of states
    ethernet : the last look at what only Ethernet counts
    refused : what was not believed when it was described, which later polls do not read
    """

    tables: frozenset[Table] = frozenset(Table)
    objects: tuple[ExtraObject, ...] = ()
    neighbour_table: NeighbourTable | None = None
    wireless_tables: WirelessTables | None = None
    discovered: bool = False
    indexes: list[bytes] = field(default_factory=list)
    narrow: bool = False
    slow: bool = False
    components: list[Asked] = field(default_factory=list)
    all_read_at: float = 0.0
    known: dict[tuple[str, str], Count] = field(default_factory=dict)
    ethernet: Seen | None = None
    refused: dict[str, str] = field(default_factory=dict)
    if_number: int = -1
    table_change: int = -1
    uptime: int = -1

    def move_times(self, step: float) -> None:
        """The clock was set by so many seconds: what was before is so much later or earlier by it."""
        self.all_read_at += step
        self.known = {key: replace(count, at=count.at + step) for key, count in self.known.items()}
        if self.ethernet is not None:
            self.ethernet = replace(self.ethernet, at=self.ethernet.at + step)


@dataclass(frozen=True, slots=True)
class Head:
    """What a poll begins with; -1 is what the device does not show. ``at`` is when the answer came, ``rtt`` in seconds."""

    at: float
    rtt: float
    uptime: int
    if_number: int
    table_change: int


@dataclass(slots=True)
class Discovery:
    """What a device says of itself, its interfaces and its components."""

    said: Described
    ports: list[PortDescribed]
    components: list[ComponentDescribed]


@dataclass(slots=True)
class Polled:
    """One successful poll. Rows of the arrays are in the order of ``indexes`` (ifIndex), read from ``at`` to ``read_until``."""

    at: float
    read_until: float
    rtt_ms: float
    poll_ms: float
    requests: int
    varbinds: int
    uptime: int
    indexes: list[int]
    snapshot: Snapshot
    status: Status
    components: dict[tuple[str, str], float]
    errors: list[Errors]
    duplex: dict[int, int]
    """By ifIndex, as far as it was read now."""
    discovery: Discovery | None
    restarted: bool
    refused: dict[str, str]
    """What was given and not believed: by the name of the object, what was wrong with it."""


async def poll(session: Session, plan: Plan, now: Callable[[], float] = time.time) -> Polled:
    """Poll one device; what it is made of is read again when there is a sign that it changed.

    Parameters
    ----------
    now : tells the seconds of the epoch

    Raises
    ------
    Fault
    """
    session.start_over()
    try:
        return await _poll(session, plan, now)
    finally:
        session.give_back()


async def _poll(session: Session, plan: Plan, now: Callable[[], float]) -> Polled:
    began = time.monotonic()
    requests, varbinds = session.requests, session.varbinds
    head = await _read_head(session, now)
    discovery = None
    # sysUpTime wraps after 497 days, which is no restart.
    restarted = 0 <= head.uptime < plan.uptime < TICKS - 100 * 86400
    if restarted:
        plan.known.clear()
    # What changes while the device is described is a change to the next poll.
    signs = head.if_number, head.table_change
    if (plan.if_number, plan.table_change) != signs or restarted or not plan.discovered:
        discovery, head = await discover(session, plan), await _read_head(session, now)
    plan.uptime, (plan.if_number, plan.table_change) = head.uptime, signs
    indexes, snapshot, status = await _read_interfaces(session, plan, head)
    if discovery is None and len(indexes) < len(plan.indexes):
        # Something that was listed is not any more: say so now, and read on without it.
        discovery, head = await discover(session, plan), await _read_head(session, now)
        indexes, snapshot, status = await _read_interfaces(session, plan, head)
    read_until = now()
    components = await _read_components(session, plan, head, now)
    errors, duplex = await _look_at_ethernet(session, plan, head)
    poll_ms = (time.monotonic() - began) * 1000
    return Polled(
        head.at,
        read_until,
        head.rtt * 1000,
        poll_ms,
        session.requests - requests,
        session.varbinds - varbinds,
        head.uptime,
        indexes,
        snapshot,
        status,
        components,
        errors,
        duplex,
        discovery,
        restarted,
        plan.refused | {name: _refused(each) for name, each in session.refused.items()},
    )


def _refused(refused: Refused) -> str:
    return refused.words if refused.count == 1 else f"{refused.words}; {refused.count:,} values of it"


async def _read_head(session: Session, now: Callable[[], float]) -> Head:
    """Read what every poll begins with: the clock that what follows is counted by, and the signs of a change."""
    head = await session.get([oids.SYS_UPTIME, oids.IF_NUMBER, oids.IF_TABLE_LAST_CHANGE])
    at, rtt = now(), session.rtt
    if all(tag in ber.ABSENT for tag in head.tags):
        raise Fault(
            FaultKind.NO_ACCESS,
            "answered, but shows neither sysUpTime nor interfaces to this credential (check its view)",
        )
    uptime, if_number, change = (
        value if tag not in ber.ABSENT and isinstance(value, int) else -1
        for tag, value in zip(head.tags, head.values, strict=True)
    )
    return Head(at, rtt, uptime, if_number, change)


async def _read_components(
    session: Session, plan: Plan, head: Head, now: Callable[[], float]
) -> dict[tuple[str, str], float]:
    """The numbers of components: of all, if it is time, else of those that change fast."""
    if head.at - plan.all_read_at < SELDOM:
        return await read_components(session, (each for each in plan.components if each.is_read_often), plan.known, now)
    plan.all_read_at = head.at
    return await read_components(session, plan.components, plan.known, now)


async def _look_at_ethernet(session: Session, plan: Plan, head: Head) -> tuple[list[Errors], dict[int, int]]:
    """What Ethernet interfaces counted since the last look, if it is time for one."""
    before = plan.ethernet
    if Table.ETHERNET not in plan.tables or (before is not None and head.at - before.at < EVERY):
        return [], {}
    plan.ethernet = after = await read_ethernet(session, head.at, head.uptime)
    return counted(before, after), dict(zip(after.indexes.tolist(), after.duplex.tolist(), strict=True))


async def _read_interfaces(session: Session, plan: Plan, head: Head) -> tuple[list[int], Snapshot, Status]:
    prefixes = [*WIDE, *TROUBLE, *STATES]
    if plan.slow:
        prefixes.append(oids.IF_SPEED)
    if plan.narrow:
        prefixes += NARROW.values()
    columns = dict(zip(prefixes, await read_columns(session, prefixes, len(plan.indexes)), strict=True))
    # An interface is there if the device gives its state; any other column may have holes.
    rows = columns[oids.IF_OPER_STATUS].indexes
    n = len(rows)
    place = None if rows == plan.indexes else {index: number for number, index in enumerate(rows)}

    def values(prefix: bytes, dtype: type, default: int = 0) -> NDArray[Any]:
        return _array(columns.get(prefix), rows, place, dtype, default)

    counters = np.zeros((n, 12), np.uint64)
    for number, prefix in enumerate(WIDE):
        counters[:, number] = values(prefix, np.uint64)
    for number, prefix in enumerate(TROUBLE):
        counters[:, HIGH_CAPACITY + number] = values(prefix, np.uint64)
    wide = _has(columns[oids.IF_HC_IN_OCTETS], rows)
    present = wide.copy()
    if plan.narrow:
        narrow = ~wide & _has(columns[oids.IF_IN_OCTETS], rows)
        present |= narrow
        for number, prefix in NARROW.items():
            counters[narrow, number] = values(prefix, np.uint64)[narrow]
    snapshot = Snapshot(
        np.full(n, head.at),
        np.full(n, head.uptime, np.int64),
        values(oids.IF_COUNTER_DISCONTINUITY, np.int64),
        counters,
        present,
        wide,
    )
    status = Status(
        values(oids.IF_ADMIN_STATUS, np.int16, 1),
        values(oids.IF_OPER_STATUS, np.int16, 4),
        values(oids.IF_HIGH_SPEED, np.int64),
        values(oids.IF_SPEED, np.int64),
    )
    return [ber.suffix(row)[0] for row in rows], snapshot, status


def _array(
    column: Column | None, rows: list[bytes], place: dict[bytes, int] | None, dtype: type, default: int
) -> NDArray[Any]:
    if column is None:
        return np.full(len(rows), default, dtype)
    try:
        if column.indexes == rows:
            return np.array(column.values, dtype)
        values: NDArray[Any] = np.full(len(rows), default, dtype)
        places = place or {index: number for number, index in enumerate(rows)}
        for index, value in zip(column.indexes, column.values, strict=True):
            if index in places:
                values[places[index]] = value
        return values
    except (TypeError, ValueError, OverflowError) as error:
        raise Fault(
            FaultKind.GARBLED, f"answered with a value that cannot be one at {ber.dotted(column.prefix)}"
        ) from error


def _has(column: Column, rows: list[bytes]) -> NDArray[np.bool_]:
    if column.indexes == rows:
        return np.ones(len(rows), np.bool_)
    there = set(column.indexes)
    return np.array([row in there for row in rows], np.bool_)


async def read_system(session: Session) -> Described:
    """Read the system group of SNMPv2-MIB (RFC 3418).

    Raises
    ------
    Fault
    """
    system = await session.get([oids.SYS_NAME, oids.SYS_DESCR, oids.SYS_OBJECT_ID, oids.SYS_LOCATION, oids.SYS_CONTACT])
    texts = [
        clean(value) if tag == ber.OCTET_STRING and isinstance(value, bytes) else ""
        for tag, value in zip(system.tags, system.values, strict=True)
    ]
    object_id = ""
    if system.tags[2] == ber.OBJECT_IDENTIFIER and isinstance(system.values[2], bytes):
        object_id = ber.dotted(system.values[2])
    return Described(texts[0], texts[1], object_id, texts[3], texts[4])


async def discover(session: Session, plan: Plan) -> Discovery:
    """Read what a device is and what it has, as far as its profile wants it, and renew the plan.

    Raises
    ------
    Fault
    """
    said = await read_system(session)
    ports = await _discover_ports(session, plan) if Table.INTERFACES in plan.tables else []
    chassis, components = await discover_components(session, plan.tables)
    components += await discover_objects(session, plan.objects)
    plan.components, plan.all_read_at, plan.discovered = [ask(part) for part in components], 0.0, True
    plan.refused = {name: _refused(each) for name, each in session.refused.items()}
    maker, model, serial, software = chassis
    engine_id, base_mac = await _read_identity(session, ports)
    said = replace(
        said, maker=maker, model=model, serial=serial, software=software, engine_id=engine_id, base_mac=base_mac
    )
    return Discovery(said, ports, components)


async def _read_identity(session: Session, ports: list[PortDescribed]) -> tuple[str, str]:
    """SNMP engine id (RFC 3411) and base MAC address: of the bridge (RFC 4188), else the lowest of the ports."""
    answer = await session.get([oids.ENGINE_ID, oids.BRIDGE_ADDRESS])
    engine, bridge = (
        value if tag == ber.OCTET_STRING and isinstance(value, bytes) else b""
        for tag, value in zip(answer.tags, answer.values, strict=True)
    )
    base = mac_address(bridge) or min((port.mac for port in ports if port.mac), default="")
    return engine[:32].hex(), base


async def _discover_ports(session: Session, plan: Plan) -> list[PortDescribed]:
    """What it says of its interfaces; the plan learns how their counters are to be read."""
    named = (
        oids.IF_OPER_STATUS,
        oids.IF_DESCR,
        oids.IF_TYPE,
        oids.IF_PHYS_ADDRESS,
        oids.IF_NAME,
        oids.IF_ALIAS,
        oids.IF_HIGH_SPEED,
        oids.IF_SPEED,
        oids.IF_HC_IN_OCTETS,
    )
    columns = {column.prefix: column for column in await read_columns(session, named)}
    table = {prefix: dict(zip(column.indexes, column.values, strict=True)) for prefix, column in columns.items()}
    plan.indexes = columns[oids.IF_OPER_STATUS].indexes
    plan.narrow = any(index not in table[oids.IF_HC_IN_OCTETS] for index in plan.indexes)

    def words(prefix: bytes, index: bytes) -> str:
        value = table[prefix].get(index, b"")
        return clean(value) if isinstance(value, bytes) else ""

    def number(prefix: bytes, index: bytes) -> int:
        value = table[prefix].get(index, 0)
        return value if isinstance(value, int) else 0

    plan.slow = any(number(oids.IF_HIGH_SPEED, index) < 100 for index in plan.indexes)
    ports = []
    for index in plan.indexes:
        kind, mac = table[oids.IF_TYPE].get(index, 0), table[oids.IF_PHYS_ADDRESS].get(index, b"")
        ports.append(
            PortDescribed(
                ber.suffix(index)[0],
                words(oids.IF_NAME, index),
                words(oids.IF_DESCR, index),
                words(oids.IF_ALIAS, index),
                kind if isinstance(kind, int) else 0,
                mac_address(mac) if isinstance(mac, bytes) else "",
                number(oids.IF_HIGH_SPEED, index) * 10**6 or number(oids.IF_SPEED, index),
            )
        )
    return ports
