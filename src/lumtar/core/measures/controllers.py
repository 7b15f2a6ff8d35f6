"""Measures of controllers, and of the parts of overlays that they tell of."""

from dataclasses import dataclass
from typing import Any

from lumtar.core.measures.rates import Floats
from lumtar.core.measures.registry import Measure, register

CONTROLLER = "controller"
CONTROLLER_ITEM = "controller_item"


@dataclass(frozen=True, slots=True)
class Controllers:
    """n controllers; NaN is not known.

    Attributes
    ----------
    failed : 1 if nothing could be read of it the last time, else 0
    missing : of its members the share that its last answer lacked, per cent
    severity : of the worst alarm that it tells of itself (core/alarms/severity.py)
    problem, says : why nothing could be read, and the text of that alarm
    """

    failed: Floats
    missing: Floats
    severity: Floats
    problem: tuple[str, ...]
    says: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ControllerItems:
    """n parts of overlays: devices, transports and tunnels; NaN is not known.

    Attributes
    ----------
    down : 1 if its state is not a good one, else 0
    severity : of the worst alarm that the controller tells of it
    state, says : the word for its state, and the text of that alarm
    """

    down: Floats
    severity: Floats
    state: tuple[str, ...]
    says: tuple[str, ...]


def _problem(controllers: Controllers, n: int) -> dict[str, Any]:
    return {"why": controllers.problem[n]}


def _says(told: Controllers | ControllerItems, n: int) -> dict[str, Any]:
    return {"says": told.says[n]}


def _state(items: ControllerItems, n: int) -> dict[str, Any]:
    return {"state": items.state[n]}


register(
    Measure("controller_failed", "Controller cannot be asked", "", CONTROLLER, lambda all_: all_.failed, facts=_problem)
)
register(Measure("controller_missing", "Members missing from the answer", "%", CONTROLLER, lambda all_: all_.missing))
register(
    Measure("controller_severity", "Alarm of the controller", "", CONTROLLER, lambda all_: all_.severity, facts=_says)
)
register(Measure("item_down", "Down, says the controller", "", CONTROLLER_ITEM, lambda items: items.down, facts=_state))
register(
    Measure("item_severity", "Alarm of the controller", "", CONTROLLER_ITEM, lambda items: items.severity, facts=_says)
)
