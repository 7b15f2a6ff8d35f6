"""Measures of components, from the newest number of each."""

from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from lumtar.core.components import KINDS
from lumtar.core.measures.rates import Floats
from lumtar.core.measures.registry import Measure, register


@dataclass(frozen=True, slots=True)
class Components:
    """n components: kind, unit and the number that each showed."""

    kind: NDArray[np.str_]
    unit: NDArray[np.str_]
    value: Floats

    def of_kind(self, kind: str, unit: str = "") -> Floats:
        """The numbers of one kind, with one unit if it is given; NaN for all others."""
        return np.where((self.kind == kind) & ((not unit) | (self.unit == unit)), self.value, np.nan)

    def faulty(self) -> Floats:
        """Of components that have a state: 1 where it is a fault, 0 where not."""
        faulty = np.full(len(self.value), np.nan)
        for name, kind in KINDS.items():
            mine = (self.kind == name) & ~np.isnan(self.value)
            if kind.has_state:
                faulty[mine] = ~np.isin(self.value[mine], list(kind.good))
        return faulty

    def state(self, n: int) -> dict[str, str]:
        """The word for the state of one of them."""
        return {"state": KINDS[str(self.kind[n])].word(float(self.value[n]))}


def _register(name: str, words: str, unit: str, kind: str, of_unit: str = "") -> None:
    register(Measure(name, words, unit, "component", partial(Components.of_kind, kind=kind, unit=of_unit)))


_register("processor", "Processor load", "%", "processor")
_register("memory", "Memory in use", "%", "memory")
_register("storage", "Storage in use", "%", "storage")
_register("temperature", "Temperature", "°C", "sensor", "°C")
_register("poe", "Power over Ethernet in use", "%", "poe share")
_register("sensor", "Reading of a sensor", "", "sensor")
_register("test_delay", "Delay of a device's own test", "ms", "test delay")
_register("test_jitter", "Jitter of a device's own test", "ms", "test jitter")
_register("test_loss", "Loss of a device's own test", "%", "test loss")
_register("sessions", "Sessions", "", "sessions")
_register("session_share", "Sessions, of the limit", "%", "session share")
_register("session_rate", "Sessions begun", "/s", "session rate")
_register("threats", "Threats found", "/min", "threats")
_register("drops", "Packets dropped by a firewall", "/s", "drops")
_register("tunnel_age", "Age of a tunnel", "s", "tunnel age")
_register("tunnel_rekeys", "Keys of a tunnel renewed", "/h", "tunnel rekeys")
_register("tunnel_in", "Traffic into a tunnel", "bit/s", "tunnel in")
_register("tunnel_out", "Traffic out of a tunnel", "bit/s", "tunnel out")
_register("object", "Value of an own object", "", "object")
register(Measure("faulty", "Faulty component", "", "component", Components.faulty, facts=Components.state))
