"""Fans and power supplies that say whether they work: entStateOper of ENTITY-STATE-MIB (RFC 4268)."""

from functools import partial

from lumtar.core.components.entities import CLASS, DESCR, NAME, title
from lumtar.core.components.registry import Column, ComponentKind, Rows, register, with_state
from lumtar.core.discovery import ComponentDescribed
from lumtar.core.profiles import Table

OPER = Column("entStateOper", "1.3.6.1.2.1.131.1.1.1.3", 1, 4)
WORDS = {1: "not known", 2: "out of order", 3: "works", 4: "being tested"}
"""EntityOperState."""
CLASSES = {"fan": (7, "fan"), "supply": (6, "power supply")}
"""PhysicalClass (RFC 6933), and what one is called."""


def _discover(rows: Rows, kind: str) -> list[ComponentDescribed]:
    return [
        with_state(kind, index[-1:], title(rows, index) or f"{kind} {index[-1]}")
        for index in rows["entStateOper"]
        if rows["entPhysicalClass"].get(index) == CLASSES[kind][0]
    ]


for name, (_, words) in CLASSES.items():
    register(
        ComponentKind(
            name,
            words,
            Table.STATES,
            (OPER, CLASS, NAME, DESCR),
            partial(_discover, kind=name),
            value=OPER,
            states=WORDS,
            good=frozenset((1, 3)),
        )
    )
