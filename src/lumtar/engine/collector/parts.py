"""Reading what a device is made of: its chassis, processors and sensors, and the extra objects of its profile."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from lumtar.core.discovery import PartDescribed
from lumtar.core.profiles import MOST_INSTANCES, ExtraObject, Table, number_of, rate_of
from lumtar.core.text import clean
from lumtar.wire import ber, oids
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.session import Session
from lumtar.wire.tables import Column, read_columns

SENSOR_UNITS = {3: "V", 4: "V", 5: "A", 6: "W", 7: "Hz", 8: "°C", 9: "%", 10: "rpm", 11: "m³/min"}
"""EntitySensorDataType (RFC 3433); 3 and 4 are volts of alternating and direct current."""
CHASSIS = 3
AT_ONCE = 30

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
    Table.ENTITY: (oids.ENT_CLASS, oids.ENT_MAKER, oids.ENT_MODEL, oids.ENT_SERIAL, oids.ENT_SOFTWARE),
}


@dataclass(frozen=True, slots=True)
class Count:
    """What a counter showed: ``at`` in seconds of the epoch, ``bits`` 32 or 64."""

    at: float
    value: float
    bits: int


async def discover_parts(
    session: Session, tables: Collection[Table]
) -> tuple[tuple[str, str, str, str], list[PartDescribed]]:
    """Maker, model, serial number and software of the chassis; processors and working sensors.

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
    return _chassis(columns) if Table.ENTITY in tables else ("", "", "", ""), parts


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


async def discover_objects(session: Session, objects: Sequence[ExtraObject]) -> list[PartDescribed]:
    """The instances of extra objects: an identifier of one instance is itself, one of a column is all of its rows.

    Raises
    ------
    Fault
    """
    parts = []
    for start in range(0, len(objects), AT_ONCE):
        group = objects[start : start + AT_ONCE]
        binds = await session.get([ber.oid_body(wanted.oid) for wanted in group])
        for wanted, tag in zip(group, binds.tags, strict=True):
            found = [(wanted.oid, wanted.name)]
            if tag in ber.ABSENT:
                (column,) = await read_columns(session, [ber.oid_body(wanted.oid)])
                rows = [".".join(map(str, ber.suffix(index))) for index in column.indexes[:MOST_INSTANCES]]
                found = [(f"{wanted.oid}.{row}", f"{wanted.name} {row}") for row in rows]
            unit = f"{wanted.unit}/s" if wanted.counts else wanted.unit
            parts += [
                PartDescribed("object", oid, name, unit, wanted.scale, wanted.counts, wanted.text)
                for oid, name in found
                if len(oid) <= 400
            ]
    return parts


async def read_parts(
    session: Session, parts: Sequence[PartDescribed], counted: dict[str, Count], at: float
) -> dict[tuple[str, str], float]:
    """The newest numbers of components, by kind and index.

    Parameters
    ----------
    counted : what counting objects showed last, by their identifiers; it is renewed
    at : seconds of the epoch

    Raises
    ------
    Fault
    """
    found: dict[tuple[str, str], float] = {}
    for start in range(0, len(parts), AT_ONCE):
        group = parts[start : start + AT_ONCE]
        binds = await session.get([_oid(part) for part in group])
        for part, tag, value in zip(group, binds.tags, binds.values, strict=False):
            number = None if tag in ber.ABSENT else number_of(value, part.text)
            if number is not None and part.counts:
                last = counted.get(part.index)
                counted[part.index] = Count(at, number, 64 if tag == ber.COUNTER64 else 32)
                number = None if last is None else rate_of(last.value, number, last.bits, at - last.at)
            if number is not None:
                found[part.kind, part.index] = number * part.scale
    return found


def _oid(part: PartDescribed) -> bytes:
    if part.kind == "object":
        return ber.oid_body(part.index)
    prefix = oids.HR_PROCESSOR_LOAD if part.kind == "processor" else oids.SENSOR_VALUE
    return prefix + ber.subidentifiers([int(part.index)])
