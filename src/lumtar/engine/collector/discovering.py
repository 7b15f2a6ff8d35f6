"""Finding out what a device is made of: chassis, processors, sensors, memory, disks, fans, power supplies, power over Ethernet."""

from collections.abc import Collection

from lumtar.core.discovery import STATE, PartDescribed
from lumtar.core.profiles import MOST_INSTANCES, Table
from lumtar.core.text import clean
from lumtar.wire import ber, oids
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.pdu import Value
from lumtar.wire.session import Session
from lumtar.wire.tables import Column, read_columns

SENSOR_UNITS = {3: "V", 4: "V", 5: "A", 6: "W", 7: "Hz", 8: "°C", 9: "%", 10: "rpm", 11: "m³/min"}
"""EntitySensorDataType (RFC 3433); 3 and 4 are volts of alternating and direct current."""
CHASSIS = 3
STATE_KINDS: dict[Value | None, str] = {6: "supply", 7: "fan"}
"""By PhysicalClass (RFC 6933)."""
STORAGE_KINDS = {2: "memory", 3: "memory", 4: "storage", 5: "storage", 9: "storage", 10: "storage"}
"""By the last number of hrStorageType (RFC 2790): RAM and virtual memory, fixed, removable, flash and network disks."""

COLUMNS = {
    Table.PROCESSORS: (oids.HR_PROCESSOR_LOAD,),
    Table.SENSORS: (
        oids.SENSOR_TYPE,
        oids.SENSOR_SCALE,
        oids.SENSOR_PRECISION,
        oids.SENSOR_STATUS,
        oids.ENT_NAME,
        oids.ENT_DESCR,
    ),
    Table.STORAGE: (oids.HR_STORAGE_TYPE, oids.HR_STORAGE_DESCR, oids.HR_STORAGE_SIZE),
    Table.STATES: (oids.ENT_STATE_OPER, oids.ENT_CLASS, oids.ENT_NAME, oids.ENT_DESCR),
    Table.POWER: (oids.PETH_MAIN_POWER, oids.PETH_PORT_DETECTION),
    Table.ENTITY: (oids.ENT_CLASS, oids.ENT_MAKER, oids.ENT_MODEL, oids.ENT_SERIAL, oids.ENT_SOFTWARE),
}


async def discover_parts(
    session: Session, tables: Collection[Table]
) -> tuple[tuple[str, str, str, str], list[PartDescribed]]:
    """Maker, model, serial number and software of the chassis; and its components.

    Raises
    ------
    Fault
    """
    wanted = list(dict.fromkeys(prefix for table in COLUMNS if table in tables for prefix in COLUMNS[table]))
    try:
        columns = {column.prefix: column for column in await read_columns(session, wanted)}
    except Fault as fault:
        if fault.kind is not FaultKind.ERROR_STATUS:
            raise
        return ("", "", "", ""), []
    parts: list[PartDescribed] = []
    if Table.PROCESSORS in tables:
        parts += [
            PartDescribed("processor", str(ber.suffix(index)[-1]), f"Processor {number}", "%", 1.0)
            for number, index in enumerate(columns[oids.HR_PROCESSOR_LOAD].indexes, 1)
        ]
    if Table.SENSORS in tables:
        parts += _sensors(columns)
    if Table.STORAGE in tables:
        parts += _storage(columns)
    if Table.STATES in tables:
        parts += _states(columns)
    if Table.POWER in tables:
        parts += _power(columns)
    # Of two rows whose indexes end in the same number the first one counts.
    once = {(part.kind, part.index): part for part in reversed(parts)}
    return _chassis(columns) if Table.ENTITY in tables else ("", "", "", ""), list(reversed(once.values()))


def _sensors(columns: dict[bytes, Column]) -> list[PartDescribed]:
    name, descr = (_texts(columns[prefix]) for prefix in (oids.ENT_NAME, oids.ENT_DESCR))
    units, scale, precision, state = (
        dict(zip(columns[prefix].indexes, columns[prefix].values, strict=True))
        for prefix in (oids.SENSOR_TYPE, oids.SENSOR_SCALE, oids.SENSOR_PRECISION, oids.SENSOR_STATUS)
    )
    parts = []
    for index, unit in units.items():
        if state.get(index, 1) != 1:
            continue
        # EntitySensorDataScale: 9 is units, every step a factor of 1,000 (RFC 3433).
        factor = 1000.0 ** (int(scale.get(index, 9)) - 9) / 10.0 ** int(precision.get(index, 0))
        number = ber.suffix(index)[-1]
        title = name.get(index) or descr.get(index) or f"Sensor {number}"
        parts.append(PartDescribed("sensor", str(number), title, SENSOR_UNITS.get(int(unit), ""), factor))
    return parts


def _chassis(columns: dict[bytes, Column]) -> tuple[str, str, str, str]:
    kinds = columns[oids.ENT_CLASS]
    box = next((index for index, kind in zip(kinds.indexes, kinds.values, strict=True) if kind == CHASSIS), b"")
    maker, model, serial, software = (
        _texts(columns[prefix]).get(box, "")
        for prefix in (oids.ENT_MAKER, oids.ENT_MODEL, oids.ENT_SERIAL, oids.ENT_SOFTWARE)
    )
    return maker, model, serial, software


def _texts(column: Column) -> dict[bytes, str]:
    pairs = zip(column.indexes, column.values, strict=True)
    return {index: clean(value) for index, value in pairs if isinstance(value, bytes)}


def _storage(columns: dict[bytes, Column]) -> list[PartDescribed]:
    """Memory and disks that have a size; hrStorageType says which is which."""
    kinds, names, sizes = (
        dict(zip(columns[prefix].indexes, columns[prefix].values, strict=True))
        for prefix in (oids.HR_STORAGE_TYPE, oids.HR_STORAGE_DESCR, oids.HR_STORAGE_SIZE)
    )
    parts = []
    for index, kind in kinds.items():
        size, name = sizes.get(index), names.get(index)
        word = STORAGE_KINDS.get(ber.suffix(kind)[-1]) if isinstance(kind, bytes) and kind else None
        if word and isinstance(size, int) and size > 0:
            number = ber.suffix(index)[-1]
            title = clean(name) if isinstance(name, bytes) else ""
            parts.append(PartDescribed(word, str(number), title or f"{word} {number}", "%", 1.0))
    return parts


def _states(columns: dict[bytes, Column]) -> list[PartDescribed]:
    """Fans and power supplies that say whether they work."""
    classes = dict(zip(columns[oids.ENT_CLASS].indexes, columns[oids.ENT_CLASS].values, strict=True))
    name, descr = (_texts(columns[prefix]) for prefix in (oids.ENT_NAME, oids.ENT_DESCR))
    parts = []
    for index in columns[oids.ENT_STATE_OPER].indexes:
        kind = STATE_KINDS.get(classes.get(index))
        if kind:
            number = ber.suffix(index)[-1]
            title = name.get(index) or descr.get(index) or f"{kind} {number}"
            parts.append(PartDescribed(kind, str(number), title, STATE, 1.0))
    return parts


def _power(columns: dict[bytes, Column]) -> list[PartDescribed]:
    """Power over Ethernet: what each group of ports may use and uses, and each port."""
    parts = []
    groups = columns[oids.PETH_MAIN_POWER].indexes
    for index in groups:
        number = str(ber.suffix(index)[-1])
        which = f" {number}" if len(groups) > 1 else ""
        parts.append(PartDescribed("poe used", number, f"PoE{which} in use", "W", 1.0))
        parts.append(PartDescribed("poe budget", number, f"PoE{which} budget", "W", 1.0))
    for index in columns[oids.PETH_PORT_DETECTION].indexes[:MOST_INSTANCES]:
        place = ber.suffix(index)
        which = ".".join(map(str, place)) if len(groups) > 1 else str(place[-1])
        parts.append(PartDescribed("poe port", ".".join(map(str, place)), f"PoE port {which}", STATE, 1.0))
    return parts
