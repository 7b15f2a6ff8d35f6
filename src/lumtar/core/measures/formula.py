"""Formulas of measures that people write, such as ``= 100 * errors / (errors + volume / packet_size)``.

A formula is a measure: whatever takes the name of one takes a formula as well. It knows plus, minus, times, divided by,
parentheses, numbers such as ``1.5`` or ``10M``, ``min``, ``max`` and ``abs``; units are looked after; dividing by zero gives no
value. There is nothing in it that hangs or reaches out.
"""

import re
from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np

from lumtar.core.conditions import quantity
from lumtar.core.measures.rates import Floats
from lumtar.core.measures.registry import MEASURES, Measure
from lumtar.core.refusal import Refusal

MARK = "="
LONGEST, DEEPEST = 200, 20
Unit = tuple[tuple[str, int], ...]
"""Symbols with their powers, in the order of the symbols."""
Value = Callable[[Any], Floats]
_TOKEN = re.compile(
    r"\s*(?:(?P<number>\d+(?:\.\d+)?[kMGT]?\b)|(?P<name>[A-Za-z_]\w*)|(?P<sign>[-+*/(),])|(?P<text>\"[^\"]*\"?))"
)
FUNCTIONS: dict[str, tuple[int, Callable[..., Floats]]] = {
    "min": (2, np.minimum),
    "max": (2, np.maximum),
    "abs": (1, np.abs),
}
"""By name, how many arguments there are, and what is computed."""


def is_formula(name: str) -> bool:
    """Whether the name of a measure is a formula."""
    return name.lstrip().startswith(MARK)


@lru_cache(maxsize=500)
def understand(text: str) -> Measure:
    """The measure that a formula stands for.

    Raises
    ------
    Refusal
        with a sentence for the person who wrote it
    """
    if len(text) > LONGEST:
        raise Refusal(f"A formula has at most {LONGEST} characters.", "measure")
    written = " ".join(text.strip().removeprefix(MARK).split())
    parser = _Parser(written)
    value, unit = parser.parse()
    used = [MEASURES[name] for name in parser.used]
    if not used:
        raise Refusal("A formula names at least one measure.", "measure")
    if len(kinds := {each.subject for each in used}) > 1:
        raise Refusal(f"These measures are of different things: {', '.join(sorted(kinds))}.", "measure")
    needs = tuple(dict.fromkeys(column for each in used for column in each.needs))
    shown = "" if unit is None else _shown(unit)
    return Measure(f"{MARK} {written}", written, shown, used[0].subject, value, needs)


def measure_of(name: str) -> Measure:
    """A measure by its name, or the one that a formula stands for.

    Raises
    ------
    Refusal
    """
    if is_formula(name):
        return understand(name)
    if name not in MEASURES:
        raise Refusal(
            f"There is no measure {name[:40]}; there are {', '.join(MEASURES)}, and formulas of them that begin with =.",
            "measure",
        )
    return MEASURES[name]


def known_measure(name: str) -> Measure | None:
    """The same, or None if it makes no sense (any more)."""
    try:
        return measure_of(name)
    except Refusal:
        return None


def _unit(text: str) -> Unit:
    return ((text, 1),) if text else ()


def _times(one: Unit, other: Unit, sign: int) -> Unit:
    powers = dict(one)
    for symbol, power in other:
        powers[symbol] = powers.get(symbol, 0) + sign * power
    return tuple(sorted((symbol, power) for symbol, power in powers.items() if power))


def _shown(unit: Unit) -> str:
    above = [symbol if power == 1 else f"{symbol}^{power}" for symbol, power in unit if power > 0]
    below = [symbol if power == -1 else f"{symbol}^{-power}" for symbol, power in unit if power < 0]
    return "·".join(above or (["1"] if below else [])) + "".join(f"/{each}" for each in below)


class _Parser:
    """Recursive descent. A unit of None is that of a plain number, which goes with any other."""

    def __init__(self, text: str) -> None:
        self.used: list[str] = []
        self._tokens: list[tuple[str, str, int]] = []
        self._at = self._depth = 0
        place = 0
        while place < len(text):
            match = _TOKEN.match(text, place)
            if match is None:
                raise Refusal(
                    f"“{text[place:].strip()[:10]}” (character {place + 1}) is not understood in a formula.", "measure"
                )
            kind = str(match.lastgroup)
            self._tokens.append((kind, match[kind], match.start(kind) + 1))
            place = match.end()

    def _peek(self) -> str:
        return self._tokens[self._at][1] if self._at < len(self._tokens) else ""

    def _take(self) -> tuple[str, str, int]:
        if self._at >= len(self._tokens):
            raise Refusal("The formula ends where a measure or a number should stand.", "measure")
        self._at += 1
        return self._tokens[self._at - 1]

    def parse(self) -> tuple[Value, Unit | None]:
        result = self._sum()
        if self._at < len(self._tokens):
            _, word, place = self._tokens[self._at]
            raise Refusal(f"An operator should stand before “{word[:20]}” (character {place}).", "measure")
        return result

    def _sum(self) -> tuple[Value, Unit | None]:
        self._depth += 1
        if self._depth > DEEPEST:
            raise Refusal(f"The formula nests more than {DEEPEST} levels deep.", "measure")
        value, unit = self._product()
        while (sign := self._peek()) in ("+", "-"):
            self._at += 1
            other, others = self._product()
            unit = self._same(unit, others, "added" if sign == "+" else "subtracted")
            value = _both(np.add if sign == "+" else np.subtract, value, other)
        self._depth -= 1
        return value, unit

    def _same(self, one: Unit | None, other: Unit | None, done: str) -> Unit | None:
        if one is None or other is None:
            return other if one is None else one
        if one != other:
            raise Refusal(f"{_shown(one) or 'a number'} and {_shown(other) or 'a number'} cannot be {done}.", "measure")
        return one

    def _product(self) -> tuple[Value, Unit | None]:
        value, unit = self._factor()
        while (sign := self._peek()) in ("*", "/"):
            self._at += 1
            other, others = self._factor()
            if unit is not None or others is not None:
                unit = _times(unit or (), others or (), 1 if sign == "*" else -1)
            value = _both(np.multiply if sign == "*" else _divided, value, other)
        return value, unit

    def _factor(self) -> tuple[Value, Unit | None]:
        kind, word, place = self._take()
        if kind == "number":
            number = quantity(word)
            assert number is not None
            return _constant(number), None
        if kind == "text":
            raise Refusal(f"A text cannot be computed with: {word[:20]} (character {place}).", "measure")
        if word == "-":
            inner, unit = self._factor()
            return (lambda counts: -inner(counts)), unit
        if word == "(":
            result = self._sum()
            self._close()
            return result
        if kind != "name":
            raise Refusal(f"A measure or a number should stand before “{word}” (character {place}).", "measure")
        return self._function(word) if word in FUNCTIONS else self._measure(word, place)

    def _measure(self, name: str, place: int) -> tuple[Value, Unit | None]:
        if name not in MEASURES:
            raise Refusal(
                f"“{name[:40]}” (character {place}) is no measure; there are {', '.join(MEASURES)}.", "measure"
            )
        self.used.append(name)
        return MEASURES[name].of, _unit(MEASURES[name].unit)

    def _function(self, name: str) -> tuple[Value, Unit | None]:
        arguments, compute = FUNCTIONS[name]
        if self._peek() != "(":
            raise Refusal(f"A parenthesis should follow {name}.", "measure")
        self._at += 1
        value, unit = self._sum()
        if arguments == 2:
            if self._peek() != ",":
                raise Refusal(f"{name} takes two values, separated by a comma.", "measure")
            self._at += 1
            other, others = self._sum()
            unit, value = self._same(unit, others, "compared"), _both(compute, value, other)
        else:
            inner = value
            value = lambda counts: compute(inner(counts))  # noqa: E731
        self._close()
        return value, unit

    def _close(self) -> None:
        if self._peek() != ")":
            raise Refusal("An opening parenthesis has no closing one.", "measure")
        self._at += 1


def _constant(number: float) -> Value:
    return lambda counts: np.float64(number)  # type: ignore[return-value]


def _both(compute: Callable[..., Floats], one: Value, other: Value) -> Value:
    return lambda counts: compute(one(counts), other(counts))


def _divided(value: Floats, by: Floats) -> Floats:
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(np.asarray(by) == 0, np.nan, np.divide(value, by))
