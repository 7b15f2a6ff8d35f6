"""The long-running services of Lumtar. Whoever starts them, looks after them or tells of them reads this list.

Standard library only: the launcher reads it before anything is installed.
"""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ServiceKind:
    """One kind of service.

    Attributes
    ----------
    module : what ``python -m`` runs
    undone : what is not done while none of them runs
    stop_s : seconds that an orderly stop takes at most
    many : several of them share the work
    """

    name: str
    module: str
    undone: str
    stop_s: float
    many: bool = False


SERVICES = (
    ServiceKind(
        "collector",
        "lumtar.engine.collector",
        "Nothing is polled; the time is a gap that says so.",
        stop_s=15.0,
        many=True,
    ),
    ServiceKind(
        "worker", "lumtar.engine.worker", "Nobody is called and no sums are made; both wait until it runs.", stop_s=20.0
    ),
    ServiceKind(
        "receiver",
        "lumtar.engine.receiver",
        "Traps of devices are not heard; what they tell of is noticed at the next poll.",
        stop_s=10.0,
    ),
    ServiceKind(
        "flows",
        "lumtar.engine.flows",
        "Flow records are not received; what was exchanged meanwhile is not known.",
        stop_s=20.0,
    ),
    ServiceKind(
        "prober",
        "lumtar.engine.prober",
        "Paths are not measured; the time is missing in their compliance.",
        stop_s=15.0,
    ),
)
"""What people ask for first comes first."""


def service(name: str) -> ServiceKind:
    """The kind with this name."""
    return next(kind for kind in SERVICES if kind.name == name)
