"""Processors: hrProcessorTable of HOST-RESOURCES-MIB (RFC 2790)."""

from lumtar.core.components.registry import Column, ComponentKind, Rows, part, register
from lumtar.core.discovery import ComponentDescribed
from lumtar.core.profiles import Table

LOAD = Column("hrProcessorLoad", "1.3.6.1.2.1.25.3.3.1.2", 0, 100)


def _discover(rows: Rows) -> list[ComponentDescribed]:
    return [
        part("processor", index[-1:], f"Processor {number}", "%")
        for number, index in enumerate(rows["hrProcessorLoad"], 1)
    ]


register(
    ComponentKind(
        "processor",
        "processor",
        Table.PROCESSORS,
        (LOAD,),
        _discover,
        value=LOAD,
        is_read_often=True,
        chart="processor",
    )
)
