"""What sensors, fans and power supplies have in common: the names of entPhysicalTable (ENTITY-MIB, RFC 6933)."""

from lumtar.core.components.registry import Column, Index, Rows
from lumtar.core.text import clean

CLASS = Column("entPhysicalClass", "1.3.6.1.2.1.47.1.1.1.1.5", 1, 99)
NAME = Column("entPhysicalName", "1.3.6.1.2.1.47.1.1.1.1.7")
DESCR = Column("entPhysicalDescr", "1.3.6.1.2.1.47.1.1.1.1.2")


def title(rows: Rows, index: Index) -> str:
    """What an entity is called; empty if it has no name."""
    for column in (NAME, DESCR):
        value = rows[column.name].get(index)
        if isinstance(value, bytes) and (text := clean(value)):
            return text
    return ""
