"""Finding out what a device is made of: its chassis, and the components of every kind that its profile wants."""

from collections.abc import Collection

from lumtar.core.components import KINDS
from lumtar.core.discovery import ComponentDescribed
from lumtar.core.profiles import Table
from lumtar.core.text import clean
from lumtar.wire import ber, oids
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.session import Session
from lumtar.wire.tables import Column, read_columns

CHASSIS = 3
"""PhysicalClass (RFC 6933)."""
OF_CHASSIS = (oids.ENT_CLASS, oids.ENT_MAKER, oids.ENT_MODEL, oids.ENT_SERIAL, oids.ENT_SOFTWARE)


async def discover_components(
    session: Session, tables: Collection[Table]
) -> tuple[tuple[str, str, str, str], list[ComponentDescribed]]:
    """Maker, model, serial number and software of the chassis; and its components.

    Raises
    ------
    Fault
    """
    kinds = [kind for kind in KINDS.values() if kind.table in tables]
    names = {ber.oid_body(column.oid): column.name for kind in kinds for column in kind.columns}
    wanted = list(dict.fromkeys([*names, *(OF_CHASSIS if Table.ENTITY in tables else ())]))
    try:
        columns = {column.prefix: column for column in await read_columns(session, wanted)}
    except Fault as fault:
        if fault.kind is not FaultKind.ERROR_STATUS:
            raise
        return ("", "", "", ""), []
    rows = {
        name: {ber.suffix(index): value for index, value in zip(column.indexes, column.values, strict=True)}
        for prefix, name in names.items()
        for column in (columns[prefix],)
    }
    components = [part for kind in kinds for part in kind.discover(rows)]
    # Of two rows whose indexes end in the same number the first one counts.
    once = {(part.kind, part.index): part for part in reversed(components)}
    return _chassis(columns) if Table.ENTITY in tables else ("", "", "", ""), list(reversed(once.values()))


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
