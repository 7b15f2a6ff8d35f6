"""Reading columns of a table by GETBULK, whole rows at a time."""

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass

from lumtar.wire import ber, smi
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.pdu import Value
from lumtar.wire.session import Session

FITTING = 48
"""Variable bindings that fit a datagram of 1,500 octets, whatever the counters hold."""
MOST_ROWS = 20_000
MANY_ROWS = 2_000
"""Columns longer than that are looked at beside the event loop, so that no poll waits for it."""


@dataclass(slots=True)
class Column:
    """One column as read: encoded indexes in their order, and the values beside them."""

    prefix: bytes
    indexes: list[bytes]
    values: list[Value]
    done: bool = False
    last: bytes = b""
    """The last index that was given, believed or not."""
    seen: int = 0
    """Rows that were given, believed or not."""
    most: int = MOST_ROWS
    """More rows than these are a fault."""

    @property
    def cursor(self) -> bytes:
        """The object identifier after which reading goes on."""
        return self.prefix + self.last

    def by_index(self) -> dict[tuple[int, ...], Value]:
        """The values by the numbers of their index."""
        return {ber.suffix(index): value for index, value in zip(self.indexes, self.values, strict=True)}


async def read_columns(
    session: Session, prefixes: Sequence[bytes], rows: int | None = None, most: int = MOST_ROWS
) -> list[Column]:
    """Read whole columns.

    Parameters
    ----------
    prefixes : encoded object identifiers of the columns
    rows : how many rows there are, if that is known: reading then stops after so many,
        without asking what comes next
    most : rows that the table may have

    Raises
    ------
    Fault
        as for the session; LOOP if the device's answers do not advance
    """
    columns = [Column(prefix, [], [], most=most) for prefix in prefixes]
    expected = most if rows is None else rows
    while expected and (active := [column for column in columns if not column.done]):
        # Those that are furthest behind first: what is left of long columns is then read of many together.
        active.sort(key=lambda column: len(column.indexes))
        missing = max(1, min(expected - len(active[0].indexes), FITTING))
        group = active[: FITTING // missing]
        await _read_on(session, group, missing)
        if rows is not None:
            for column in group:
                column.done |= len(column.indexes) >= expected
    for column in columns:
        if len(column.indexes) > MANY_ROWS:
            await asyncio.to_thread(_check, session, column, columns[0])
        else:
            _check(session, column, columns[0])
    return columns


def _check(session: Session, column: Column, first: Column) -> None:
    """Leave out what the object's definition does not allow."""
    is_index = smi.is_interface_index if column.prefix in smi.BY_INTERFACE else smi.is_index
    wrong = set()
    # The indexes of all columns of a table are nearly always the same, and those of the first one were looked at.
    if column is first or column.indexes != first.indexes:
        wrong = {place for place, index in enumerate(column.indexes) if not is_index(index)}
        for place in sorted(wrong):
            session.refuse(smi.name_of(column.prefix), f"{column.indexes[place][:8].hex(' ')} is not an index")
    if syntax := smi.SYNTAX.get(column.prefix):
        for place in smi.misfits(syntax, column.values):
            session.refuse(syntax.name, f"{smi.shown(column.values[place])} is not {syntax.words}")
            if syntax.instead is None:
                wrong.add(place)
            else:
                column.values[place] = syntax.instead
    if wrong:
        column.indexes = [index for place, index in enumerate(column.indexes) if place not in wrong]
        column.values = [value for place, value in enumerate(column.values) if place not in wrong]


async def _read_on(session: Session, group: list[Column], repetitions: int) -> None:
    binds = await session.bulk([column.cursor for column in group], repetitions)
    if not binds.oids:
        raise Fault(FaultKind.GARBLED, "answered a GETBULK with nothing at all")
    count = len(group)
    for place, column in enumerate(group):
        _take(session, column, binds.oids[place::count], binds.tags[place::count], binds.values[place::count])


def _take(session: Session, column: Column, oids: list[bytes], tags: list[int], values: list[Value]) -> None:
    """Add one column's share of an answer; leaving the column ends it."""
    prefix, size = column.prefix, len(column.prefix)
    last = column.last
    for oid, tag, value in zip(oids, tags, values, strict=True):
        if not oid.startswith(prefix) or (tag in ber.ABSENT and tag != ber.OUT_OF_RANGE):
            column.done = True
            return
        index = oid[size:]
        # Encoded indexes of one length sort as their numbers do; others are decoded first.
        if not (index > last if len(index) == len(last) else _advances(index, last)):
            raise Fault(FaultKind.LOOP, f"its answers go in circles at {smi.name_of(oid)}")
        column.seen += 1
        if column.seen > column.most:
            raise Fault(FaultKind.LOOP, f"its table at {smi.name_of(prefix)} has more than {column.most:,} rows")
        column.last = last = index
        if tag == ber.OUT_OF_RANGE:
            continue
        if value.__class__ is bytes and len(value) > smi.LONGEST_VALUE:
            session.refuse(smi.name_of(prefix), f"{len(value):,} octets are too many for any value")
            continue
        column.indexes.append(index)
        column.values.append(value)


def _advances(index: bytes, last: bytes) -> bool:
    """Whether an index comes after another one. One that is none is left out later on; the bound on rows ends a circle of them."""
    try:
        return ber.suffix(index) > ber.suffix(last)
    except ber.Malformed:
        return index != last
