"""Kinds of components: one file each."""

# In the order in which they are shown.
from lumtar.core.components import processor, storage, sensor, objects, power, states, firewall, own_tests  # isort: skip
from lumtar.core.components.registry import KINDS, Column, ComponentKind, Rows, columns, register

__all__ = [
    "KINDS",
    "Column",
    "ComponentKind",
    "Rows",
    "columns",
    "firewall",
    "objects",
    "own_tests",
    "power",
    "processor",
    "register",
    "sensor",
    "states",
    "storage",
]
