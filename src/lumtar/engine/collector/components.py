"""Reading the numbers of what a device is made of, and of the extra objects of its profile."""

import math
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cache

from lumtar.core.components import KINDS
from lumtar.core.discovery import STATE, ComponentDescribed
from lumtar.core.own_objects import ExtraObject
from lumtar.core.profiles import MOST_INSTANCES, number_of, rate_of
from lumtar.core.text import clean
from lumtar.wire import ber, smi
from lumtar.wire.pdu import Value
from lumtar.wire.session import Session
from lumtar.wire.tables import read_columns

AT_ONCE = 48
"""Numbers in one request; an extra object, whose answer may be a text, takes the room of two."""
SELDOM = 30.0
"""Seconds that must have passed until the rest is read again."""
LONGEST_INDEX, LONGEST_NAME = 400, 255
"""As a component is stored."""
STATE_EVERY = 600.0
"""Seconds after which a state that has not changed is told again."""


@dataclass(frozen=True, slots=True)
class Asked:
    """A component and what is read for it: its number, and the total that this is a share of, if it is one."""

    part: ComponentDescribed
    oids: tuple[bytes, ...]

    @property
    def is_read_often(self) -> bool:
        """At every poll."""
        return KINDS[self.part.kind].is_read_often


@dataclass(frozen=True, slots=True)
class Count:
    """What a counter or a state showed: ``at`` in seconds of the epoch, ``bits`` 32 or 64."""

    at: float
    value: float
    bits: int


async def discover_objects(session: Session, objects: Sequence[ExtraObject]) -> list[ComponentDescribed]:
    """The instances of extra objects: an identifier of one instance is itself, one of a column is all of its rows.

    Raises
    ------
    Fault
    """
    components = []
    for start in range(0, len(objects), AT_ONCE // 2):
        group = objects[start : start + AT_ONCE // 2]
        binds = await session.get([ber.oid_body(wanted.oid) for wanted in group])
        for wanted, tag in zip(group, binds.tags, strict=True):
            if tag in ber.ABSENT:
                components += await _rows(session, wanted)
            else:
                components.append(_described(wanted, wanted.oid, wanted.name, wanted.limit))
    return [part for part in components if len(part.index) <= LONGEST_INDEX]


async def _rows(session: Session, wanted: ExtraObject) -> list[ComponentDescribed]:
    """All rows of a column, by the names that another column gives them."""
    prefixes = [ber.oid_body(oid) for oid in (wanted.oid, wanted.names) if oid]
    values, *names = await read_columns(session, prefixes)
    named = {
        index: clean(value)
        for column in names
        for index, value in zip(column.indexes, column.values, strict=True)
        if isinstance(value, bytes)
    }
    found = []
    for index in values.indexes[:MOST_INSTANCES]:
        row = ".".join(map(str, ber.suffix(index)))
        # A limit that ends in 0 is one for all rows.
        limit = f"{wanted.limit}.{row}" if wanted.limit and not wanted.limit.endswith(".0") else wanted.limit
        name = f"{wanted.name} {named.get(index) or row}"[:LONGEST_NAME]
        found.append(_described(wanted, f"{wanted.oid}.{row}", name, limit))
    return found


def _described(wanted: ExtraObject, oid: str, name: str, limit: str) -> ComponentDescribed:
    kind = wanted.kind
    unit = STATE if kind.has_state else kind.unit or (f"{wanted.unit}/s" if wanted.counts else wanted.unit)
    return ComponentDescribed(
        kind.name, oid, name, unit, wanted.scale * kind.scale, wanted.counts, wanted.text, limit,
        tuple(sorted(wanted.state_numbers().items())),
    )  # fmt: skip


def ask(part: ComponentDescribed) -> Asked:
    """How a component is read."""
    kind = KINDS[part.kind]
    if kind.value is None:
        return Asked(part, tuple(ber.oid_body(oid) for oid in (part.index, part.total) if oid))
    columns = (kind.value, kind.total) if kind.total else (kind.value,)
    index = ber.subidentifiers([int(number) for number in part.index.split(".")])
    return Asked(part, tuple(ber.oid_body(column.oid) + index for column in columns))


async def read_components(
    session: Session,
    asked: Iterable[Asked],
    known: dict[tuple[str, str], Count],
    now: Callable[[], float] = time.time,
) -> dict[tuple[str, str], float]:
    """The newest numbers of components, by kind and index.

    Parameters
    ----------
    known : what counting objects and states showed last, and when; it is renewed

    Raises
    ------
    Fault
    """
    numbers: dict[tuple[str, str], float] = {}
    for group in _requests(asked):
        oids = [oid for each in group for oid in each.oids]
        binds, at = await session.get(oids), now()
        answers = dict(zip(oids, zip(binds.tags, binds.values, strict=True), strict=False))
        for each in group:
            part = each.part
            values = [answers.get(oid, (ber.NO_SUCH_INSTANCE, 0)) for oid in each.oids]
            number = _number(part, [_admitted(session, part, *pair) for pair in values], known, at)
            if number is not None and math.isfinite(number := number * part.scale):
                numbers[part.kind, part.index] = number
    return numbers


@cache
def _syntax(kind: str) -> smi.Syntax | None:
    """What the number of a kind of component has to be; asked for at each value of each poll."""
    column = KINDS[kind].value
    return smi.SYNTAX.get(ber.oid_body(column.oid)) if column else None


def _admitted(session: Session, part: ComponentDescribed, tag: int, value: Value) -> tuple[int, Value]:
    """An answer as it is, or as an absent one if it is not what the component's object may hold."""
    syntax = _syntax(part.kind)
    if syntax is None or tag in ber.ABSENT or syntax.fits(value):
        return tag, value
    session.refuse(syntax.name, f"{smi.shown(value)} is not {syntax.words}")
    return ber.OUT_OF_RANGE, b""


def _requests(asked: Iterable[Asked]) -> Iterator[list[Asked]]:
    """What fits into one answer."""
    group: list[Asked] = []
    room = AT_ONCE
    for each in asked:
        takes = len(each.oids) * (2 if KINDS[each.part.kind].value is None else 1)
        if takes > room:
            yield group
            group, room = [], AT_ONCE
        group.append(each)
        room -= takes
    if group:
        yield group


def _number(
    part: ComponentDescribed, answers: list[tuple[int, Value]], known: dict[tuple[str, str], Count], at: float
) -> float | None:
    """What is to be kept of an answer: a counter's rate, a state that is news, a share of a total, a number as it is."""
    numbers = [None if tag in ber.ABSENT else number_of(value, part.text) for tag, value in answers]
    number, key = numbers[0], (part.kind, part.index)
    if part.states:
        # A tunnel that is not listed any more is not up.
        number = KINDS[part.kind].state_of(number, dict(part.states))
    if number is None:
        return None
    if len(numbers) == 2:
        return 100 * number / numbers[1] if numbers[1] else None
    last = known.get(key)
    if part.counts:
        known[key] = Count(at, number, 64 if answers[0][0] == ber.COUNTER64 else 32)
        return None if last is None else rate_of(last.value, number, last.bits, at - last.at)
    if part.has_state:
        if last is not None and last.value == number and at - last.at < STATE_EVERY:
            return None
        known[key] = Count(at, number, 32)
    return number
