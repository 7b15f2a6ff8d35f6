"""Conditions that people write: typed, checked before they are kept, without side effects.

    label like "Uplink*" or speed >= 10G and not (site is "Depot")

A test is a field, a verb and a value; a list in parentheses holds if one of its values does.
``*`` and ``?`` stand for anything and for one character, letters count alike in both cases.
An empty condition always holds.
"""

import ipaddress
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from fnmatch import translate
from typing import Any

from lumtar.core.refusal import Refusal

LONGEST = 1000
DEEPEST = 20
Test = Callable[[Mapping[str, Any]], bool]


class Kind(StrEnum):
    """What a field holds, which decides the verbs it takes."""

    TEXT = "text"
    NUMBER = "number"
    OID = "object identifier"
    ADDRESS = "address"
    """One address, or several of which one must fit."""
    WORDS = "set of words"


VERBS = {
    Kind.TEXT: ("is", "like"),
    Kind.NUMBER: ("is", "<", "<=", ">", ">="),
    Kind.OID: ("is", "under"),
    Kind.ADDRESS: ("is", "in"),
    Kind.WORDS: ("has",),
}


@dataclass(frozen=True, slots=True)
class Field:
    """Something that a condition can ask about."""

    name: str
    kind: Kind
    meaning: str


class ConditionError(Refusal):
    """A condition that cannot be understood; the words say what and where."""


@dataclass(frozen=True, slots=True)
class Ask:
    """One test: of a field, by a verb, against values of which one must fit; or none, if ``negated``."""

    field: Field
    verb: str
    values: tuple[str, ...]
    negated: bool = False


@dataclass(frozen=True, slots=True)
class Both:
    """All parts hold; without any it always holds."""

    parts: tuple["Tree", ...]


@dataclass(frozen=True, slots=True)
class Either:
    """One of the parts holds."""

    parts: tuple["Tree", ...]


@dataclass(frozen=True, slots=True)
class Not:
    """The part does not hold."""

    part: "Tree"


Tree = Ask | Both | Either | Not


@dataclass(frozen=True, slots=True)
class Condition:
    """A condition that was understood. Call it with the values of the fields; missing ones are empty."""

    text: str
    tree: Tree
    test: Test

    def __call__(self, values: Mapping[str, Any]) -> bool:
        """Whether it holds."""
        return self.test(values)


_TOKEN = re.compile(r"""\s*(?:(?P<text>"[^"]*")|(?P<sign><=|>=|<|>|=|\(|\)|,)|(?P<word>[^\s"()<>=,]+))""")
_NUMBER = re.compile(r"(-?\d+(?:\.\d+)?)([kMGT]?)")
_SCALE = {"": 1.0, "k": 1e3, "M": 1e6, "G": 1e9, "T": 1e12}


def understand(text: str, fields: Iterable[Field]) -> Condition:
    """Check a condition and make it ready to be called.

    Raises
    ------
    ConditionError
        with a sentence for the person who wrote it
    """
    if len(text) > LONGEST:
        raise ConditionError(f"A condition has at most {LONGEST:,} characters.")
    if not text.strip():
        return Condition("", Both(()), lambda values: True)
    tree = _Parser(text, {field.name: field for field in fields}).parse()
    return Condition(text.strip(), tree, _test_of(tree))


def _test_of(tree: Tree) -> Test:
    match tree:
        case Both(parts):
            tests = [_test_of(part) for part in parts]
            return lambda values: all(test(values) for test in tests)
        case Either(parts):
            tests = [_test_of(part) for part in parts]
            return lambda values: any(test(values) for test in tests)
        case Not(part):
            inner = _test_of(part)
            return lambda values: not inner(values)
        case Ask(field, verb, wanted, negated):
            name, compares = field.name, [_compare(field, verb, value) for value in wanted]
            if negated:
                return lambda values: not any(compare(values.get(name)) for compare in compares)
            return lambda values: any(compare(values.get(name)) for compare in compares)


class _Parser:
    """Recursive descent: ``or`` binds weakest, then ``and``, then ``not``."""

    def __init__(self, text: str, fields: Mapping[str, Field]) -> None:
        self._text = text
        self._fields = fields
        self._tokens = self._split()
        self._at = 0
        self._depth = 0

    def _split(self) -> list[tuple[str, bool, int]]:
        """Tokens: the text, whether it stood in quotes, and where."""
        tokens, at = [], 0
        end = len(self._text.rstrip())
        while at < end:
            match = _TOKEN.match(self._text, at)
            if match is None:
                raise ConditionError(f"The quotation mark at character {self._text.index(chr(34), at) + 1} has no end.")
            quoted = match["text"] is not None
            word = match["text"][1:-1] if quoted else match["sign"] or match["word"]
            tokens.append((word, quoted, match.start(match.lastgroup or 0) + 1))
            at = match.end()
        return tokens

    def _peek(self) -> str:
        """The next word as it steers the grammar; what is quoted never does."""
        if self._at >= len(self._tokens) or self._tokens[self._at][1]:
            return ""
        return self._tokens[self._at][0]

    def _take(self, what: str) -> tuple[str, bool, int]:
        if self._at >= len(self._tokens):
            raise ConditionError(f"It ends where {what} should stand.")
        self._at += 1
        return self._tokens[self._at - 1]

    def parse(self) -> Tree:
        tree = self._either()
        if self._at < len(self._tokens):
            word, _, at = self._tokens[self._at]
            raise ConditionError(f"“and” or “or” should stand before “{word[:40]}” (character {at}).")
        return tree

    def _either(self) -> Tree:
        parts = [self._both()]
        while self._peek() == "or":
            self._at += 1
            parts.append(self._both())
        return parts[0] if len(parts) == 1 else Either(tuple(parts))

    def _both(self) -> Tree:
        parts = [self._not()]
        while self._peek() == "and":
            self._at += 1
            parts.append(self._not())
        return parts[0] if len(parts) == 1 else Both(tuple(parts))

    def _not(self) -> Tree:
        word = self._peek()
        if word not in ("not", "("):
            return self._test()
        self._at += 1
        self._depth += 1
        if self._depth > DEEPEST:
            raise ConditionError(f"It nests more than {DEEPEST} levels deep.")
        if word == "not":
            inner = self._not()
            self._depth -= 1
            return Not(inner)
        inner = self._either()
        if self._peek() != ")":
            raise ConditionError("An opening parenthesis has no closing one.")
        self._at += 1
        self._depth -= 1
        return inner

    def _test(self) -> Tree:
        name, quoted, at = self._take("a field")
        field = self._fields.get(name)
        if field is None or quoted:
            known = ", ".join(self._fields)
            raise ConditionError(f"“{name[:40]}” (character {at}) is no field; there are {known}.")
        verb, _, at = self._take("a verb")
        verb = "is" if verb == "=" else verb
        if verb not in VERBS[field.kind]:
            verbs = ", ".join(VERBS[field.kind])
            raise ConditionError(f"“{name}” is a {field.kind}: it takes {verbs}, not “{verb[:40]}” (character {at}).")
        negated = False
        if verb == "is" and self._peek() == "not":
            self._at += 1
            negated = True
        return Ask(field, verb, tuple(self._values()), negated)

    def _values(self) -> list[str]:
        if self._peek() != "(":
            return [self._value()]
        self._at += 1
        values = [self._value()]
        while self._peek() == ",":
            self._at += 1
            values.append(self._value())
        if self._peek() != ")":
            raise ConditionError("A list of values has no closing parenthesis.")
        self._at += 1
        return values

    def _value(self) -> str:
        word, quoted, at = self._take("a value")
        if not quoted and word in ("and", "or", "(", ")", ",", "<", "<=", ">", ">=", "="):
            raise ConditionError(f"A value should stand before “{word}” (character {at}).")
        return word


def _compare(field: Field, verb: str, value: str) -> Callable[[Any], bool]:
    match field.kind:
        case Kind.TEXT:
            if verb == "is":
                return lambda actual: str(actual or "").casefold() == value.casefold()
            pattern = re.compile(translate(value.casefold().replace("[", "[[]")))
            return lambda actual: pattern.match(str(actual or "").casefold()) is not None
        case Kind.NUMBER:
            return _compare_number(field, verb, value)
        case Kind.OID:
            return _compare_oid(field, verb, value)
        case Kind.ADDRESS:
            return _compare_address(field, verb, value)
        case Kind.WORDS:
            return lambda actual: value.casefold() in (actual or ())


def quantity(text: str) -> float | None:
    """The number that a text like ``2.5G`` stands for; None if it is none."""
    match = _NUMBER.fullmatch(text)
    return float(match[1]) * _SCALE[match[2]] if match else None


def _compare_number(field: Field, verb: str, value: str) -> Callable[[Any], bool]:
    limit = quantity(value)
    if limit is None:
        raise ConditionError(f"“{field.name}” is a number: write it like 100M or 2.5G, not “{value[:40]}”.")
    signs: dict[str, Callable[[float], bool]] = {
        "is": lambda actual: actual == limit,
        "<": lambda actual: actual < limit,
        "<=": lambda actual: actual <= limit,
        ">": lambda actual: actual > limit,
        ">=": lambda actual: actual >= limit,
    }
    return lambda actual: actual is not None and signs[verb](actual)


def _compare_oid(field: Field, verb: str, value: str) -> Callable[[Any], bool]:
    wanted = value.strip(".")
    if not re.fullmatch(r"\d+(\.\d+)*", wanted):
        raise ConditionError(f"“{field.name}” is an object identifier, like 1.3.6.1.4.1.32473, not “{value[:40]}”.")
    if verb == "is":
        return lambda actual: actual == wanted
    return lambda actual: is_under(actual or "", wanted)


def is_under(oid: str, prefix: str) -> bool:
    """Whether an object identifier is a prefix's own or lies beneath it."""
    return oid == prefix or oid.startswith(prefix + ".")


def _compare_address(field: Field, verb: str, value: str) -> Callable[[Any], bool]:
    try:
        network = ipaddress.ip_network(value, strict=False)
    except ValueError as error:
        raise ConditionError(f"“{value[:60]}” is neither an address nor a prefix like 10.20.0.0/16.") from error
    if verb == "is" and network.num_addresses > 1:
        raise ConditionError(f"“{value[:60]}” is a prefix: write “{field.name} in {value[:60]}”.")

    def within(actual: Any) -> bool:
        return any(_is_within(each, network) for each in ([actual] if isinstance(actual, str) else actual or ()))

    return within


def _is_within(text: str, network: ipaddress.IPv4Network | ipaddress.IPv6Network) -> bool:
    try:
        address = ipaddress.ip_address(text.partition("%")[0])
    except ValueError:
        return False
    return address.version == network.version and address in network
