"""What is watched, and when it becomes an alarm: the only place where a rule decides.

The collector and the loader of history make frames of values and call :func:`evaluate`; nothing here knows where a value
came from.
"""

from lumtar.core.rules.baseline import Baselines, Reference
from lumtar.core.rules.evaluation import Events, evaluate
from lumtar.core.rules.frame import Frame
from lumtar.core.rules.memory import Memory, Pairs
from lumtar.core.rules.rehearsal import Figures, Raised, compared, figures, rehearse
from lumtar.core.rules.rule import Direction, Hold, Level, Rule
from lumtar.core.rules.ruleset import RuleSet

__all__ = [
    "Baselines",
    "Direction",
    "Events",
    "Figures",
    "Frame",
    "Hold",
    "Level",
    "Memory",
    "Pairs",
    "Raised",
    "Reference",
    "Rule",
    "RuleSet",
    "compared",
    "evaluate",
    "figures",
    "rehearse",
]
