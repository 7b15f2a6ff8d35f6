"""Memory and disks: hrStorageTable of HOST-RESOURCES-MIB (RFC 2790)."""

from functools import partial

from lumtar.core.components.registry import Column, ComponentKind, Rows, part, register
from lumtar.core.discovery import ComponentDescribed
from lumtar.core.profiles import Table
from lumtar.core.text import clean

TYPE = Column("hrStorageType", "1.3.6.1.2.1.25.2.3.1.2", is_oid=True)
DESCR = Column("hrStorageDescr", "1.3.6.1.2.1.25.2.3.1.3")
# Integer32 by the standard; agents with large disks use all 32 bits.
SIZE = Column("hrStorageSize", "1.3.6.1.2.1.25.2.3.1.5", 0, 2**32 - 1)
USED = Column("hrStorageUsed", "1.3.6.1.2.1.25.2.3.1.6", 0, 2**32 - 1)
TYPES = {"memory": {2, 3}, "storage": {4, 5, 9, 10}}
"""By the last number of hrStorageType: RAM and virtual memory; fixed, removable, flash and network disks."""


def _discover(rows: Rows, kind: str) -> list[ComponentDescribed]:
    """Those that have a size. The last octet of a type is its last number, for all of them are below 128."""
    storages = []
    for index, of_type in rows["hrStorageType"].items():
        size, name = rows["hrStorageSize"].get(index), rows["hrStorageDescr"].get(index)
        is_mine = isinstance(of_type, bytes) and of_type[-1:] != b"" and of_type[-1] in TYPES[kind]
        if is_mine and isinstance(size, int) and size > 0:
            title = clean(name) if isinstance(name, bytes) else ""
            storages.append(part(kind, index[-1:], title or f"{kind} {index[-1]}", "%"))
    return storages


for name in TYPES:
    register(
        ComponentKind(
            name,
            name,
            Table.STORAGE,
            (TYPE, DESCR, SIZE),
            partial(_discover, kind=name),
            value=USED,
            total=SIZE,
            chart="memory",
        )
    )
