"""Who is called: hours of the week, who of a team is on duty, and the steps of a call plan."""

from lumtar.core.calling.duty import Substitute, Turns, on_duty
from lumtar.core.calling.hours import Hours, zone_of
from lumtar.core.calling.steps import Call, Step, calls_of

__all__ = ["Call", "Hours", "Step", "Substitute", "Turns", "calls_of", "on_duty", "zone_of"]
