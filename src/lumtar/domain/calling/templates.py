"""Texts that people write for messages, in a small part of Jinja: what is not on the list below is refused.

A text can neither hang nor grow nor reach out: there are no calls, no assignments, and loops go over alarms alone, one deep.
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
    nodes.Template, nodes.Output, nodes.TemplateData, nodes.Name, nodes.Const, nodes.Getattr, nodes.If, nodes.For, nodes.CondExpr,
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
    "alarm.instructions": "what its rule says is to be done",
    "alarms": "all alarms of the message: {% for each in alarms %}{{ each.label }}{% endfor %}",
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
    _check_node(tree, is_inside_loop=False)


def _check_node(node: nodes.Node, *, is_inside_loop: bool) -> None:
    what = type(node).__name__.lower()
    if not isinstance(node, NODES):
        raise Refusal(
            f"A text cannot use “{what}” (line {node.lineno}): only variables, if, for and the filters {', '.join(FILTERS)}.",
            "text",
        )
    if isinstance(node, nodes.Filter) and node.name not in FILTERS:
        raise Refusal(f"There is no filter {node.name} (line {node.lineno}); there are {', '.join(FILTERS)}.", "text")
    if isinstance(node, nodes.For):
        over_alarms = isinstance(node.iter, nodes.Name) and node.iter.name == "alarms"
        if is_inside_loop or node.recursive or not over_alarms:
            raise Refusal(f"A loop goes over “alarms”, and none is within another (line {node.lineno}).", "text")
        is_inside_loop = True
    for child in node.iter_child_nodes():
        _check_node(child, is_inside_loop=is_inside_loop)


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
