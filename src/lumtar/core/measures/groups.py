"""Measures of groups of ports, from what all of their ports carry together."""

from dataclasses import dataclass

import numpy as np

from lumtar.core.measures.rates import Floats, utilisation
from lumtar.core.measures.registry import Measure, register


@dataclass(frozen=True, slots=True)
class Totals:
    """What n groups carried in a step of time.

    Attributes
    ----------
    in_bps, out_bps : (n,) sums of their ports' rates, bits per second; NaN where too few of them were measured
    in_capacity_bps, out_capacity_bps : (n,) sums of their ports' speeds; 0 where none is known
    """

    in_bps: Floats
    out_bps: Floats
    in_capacity_bps: Floats
    out_capacity_bps: Floats

    @property
    def load(self) -> Floats:
        """The larger share of the capacity in both directions, per cent."""
        return np.fmax(utilisation(self.in_bps, self.in_capacity_bps), utilisation(self.out_bps, self.out_capacity_bps))


register(Measure("total_in", "Inbound rate of all its ports", "bit/s", "group", lambda totals: totals.in_bps))
register(Measure("total_out", "Outbound rate of all its ports", "bit/s", "group", lambda totals: totals.out_bps))
register(
    Measure(
        "total_load",
        "Utilisation of all its ports together",
        "%",
        "group",
        lambda totals: totals.load,
        alarm="group-utilisation",
    )
)
