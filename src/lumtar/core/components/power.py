"""Power over Ethernet: POWER-ETHERNET-MIB (RFC 3621)."""

from functools import partial

from lumtar.core.components.registry import Column, ComponentKind, Rows, part, register, with_state
from lumtar.core.discovery import ComponentDescribed
from lumtar.core.profiles import MOST_INSTANCES, Table

POWER = Column("pethMainPsePower", "1.3.6.1.2.1.105.1.3.1.1.2", 0, 2**32 - 1)
CONSUMPTION = Column("pethMainPseConsumptionPower", "1.3.6.1.2.1.105.1.3.1.1.4", 0, 2**32 - 1)
DETECTION = Column("pethPsePortDetectionStatus", "1.3.6.1.2.1.105.1.1.1.6", 1, 6)
WORDS = {
    1: "switched off", 2: "nothing connected", 3: "delivers power", 4: "faulty", 5: "being tested", 6: "not able to deliver",
}  # fmt: skip


def _groups(rows: Rows, kind: str, words: str, unit: str) -> list[ComponentDescribed]:
    """What each group of ports uses, or may use."""
    groups = rows["pethMainPsePower"]
    return [
        part(kind, index[-1:], f"PoE{f' {index[-1]}' if len(groups) > 1 else ''} {words}", unit) for index in groups
    ]


def _ports(rows: Rows) -> list[ComponentDescribed]:
    has_several = len(rows["pethMainPsePower"]) > 1
    return [
        with_state("poe port", index, f"PoE port {'.'.join(map(str, index)) if has_several else index[-1]}")
        for index in list(rows["pethPsePortDetectionStatus"])[:MOST_INSTANCES]
    ]


for name, words, value, total in (
    ("poe used", "in use", CONSUMPTION, None),
    ("poe budget", "budget", POWER, None),
    ("poe share", "budget in use", CONSUMPTION, POWER),
):
    register(
        ComponentKind(
            name,
            f"power over Ethernet, {words}",
            Table.POWER,
            (POWER,),
            partial(_groups, kind=name, words=words, unit="%" if total else "W"),
            value=value,
            total=total,
        )
    )
register(
    ComponentKind(
        "poe port",
        "power over Ethernet of a port",
        Table.POWER,
        (POWER, DETECTION),
        _ports,
        value=DETECTION,
        states=WORDS,
        good=frozenset((1, 2, 3, 5)),
    )
)
