"""Texts that people write for messages, in a small part of Jinja: what is not on the list below is refused.

A text can neither hang nor grow nor reach out: there are no calls, no assignments and no loops.
"""

from collections.abc import Mapping
from typing import Any

from jinja2 import StrictUndefined, nodes
from jinja2.exceptions import TemplateError, TemplateSyntaxError, UndefinedError
from jinja2.sandbox import ImmutableSandboxedEnvironment

from lumtar.core.refusal import Refusal

LONGEST, LONGEST_RESULT = 4000, 20_000
FILTERS = ("upper", "lower", "title", "trim", "round", "int", "truncate", "default", "length")
NODES = (
    nodes.Template, nodes.Output, nodes.TemplateData, nodes.Name, nodes.Const, nodes.Getattr, nodes.If, nodes.CondExpr,
    nodes.Compare, nodes.Operand, nodes.And, nodes.Or, nodes.Not, nodes.Concat, nodes.Filter,
)  # fmt: skip
VARIABLES: dict[str, str] = {
    "alarm.label": "what it is about",
    "alarm.site": "where that is",
    "alarm.severity": "cleared, warning, minor, major or critical",
    "alarm.text": "what happened, in a sentence",
    "alarm.type": "its type",
    "alarm.at": "when it changed, UTC",
    "alarm.raised": "when it was raised, UTC",
    "alarm.cause": "what it follows from, if that is known by the time that it is sent",
    "alarm.note": "what else is known, as that a whole site fell silent",
    "alarm.instructions": "what its rule says is to be done",
    "contact": "who gets it",
    "step": "the step of the call plan, from 1",
    "link": "the page of the alarm",
}
"""What a text can use, for people who write one."""

_environment = ImmutableSandboxedEnvironment(undefined=StrictUndefined, autoescape=False, trim_blocks=True)
_environment.globals.clear()
_environment.filters = {name: _environment.filters[name] for name in FILTERS}


def check(text: str) -> None:
    """Whether a text can be used.

    Raises
    ------
    Refusal
    """
    if len(text) > LONGEST:
        raise Refusal(f"A text has at most {LONGEST:,} characters.", "text")
    try:
        tree = _environment.parse(text)
    except TemplateSyntaxError as error:
        raise Refusal(f"The text is not understood (line {error.lineno}): {error.message}", "text") from error
    except RecursionError as error:
        raise Refusal("The text nests too deeply.", "text") from error
    for node in tree.find_all(nodes.Node):
        _check_node(node)


def _check_node(node: nodes.Node) -> None:
    what = type(node).__name__.lower()
    if not isinstance(node, NODES):
        raise Refusal(
            f"A text cannot use “{what}” (line {node.lineno}): only variables, if and the filters {', '.join(FILTERS)}.",
            "text",
        )
    if isinstance(node, nodes.Filter) and node.name not in FILTERS:
        raise Refusal(f"There is no filter {node.name} (line {node.lineno}); there are {', '.join(FILTERS)}.", "text")


def fill(text: str, values: Mapping[str, Any]) -> str:
    """A text with its variables filled in.

    Raises
    ------
    Refusal
        if it uses something that there is not
    """
    check(text)
    try:
        return _environment.from_string(text).render(values)[:LONGEST_RESULT]
    except UndefinedError as error:
        raise Refusal(f"The text uses something that there is not: {error.message}.", "text") from error
    except (TemplateError, TypeError, ValueError, ArithmeticError) as error:
        raise Refusal(f"The text cannot be filled in: {error}", "text") from error
