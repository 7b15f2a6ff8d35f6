"""Measures: quantities with a unit, computed in this one place from what was counted."""

from lumtar.core.measures import components, controllers, devices, groups, interfaces, links, paths, traffic
from lumtar.core.measures.counts import Counts
from lumtar.core.measures.devices import Polls
from lumtar.core.measures.formula import is_formula, known_measure, measure_of
from lumtar.core.measures.registry import MEASURES, Measure, register

RANKED = {name: measure for name, measure in MEASURES.items() if measure.ranks}
"""What interfaces can be put in order by."""

__all__ = [
    "MEASURES",
    "RANKED",
    "Counts",
    "Measure",
    "Polls",
    "components",
    "controllers",
    "devices",
    "groups",
    "interfaces",
    "is_formula",
    "known_measure",
    "links",
    "measure_of",
    "paths",
    "register",
    "traffic",
]
