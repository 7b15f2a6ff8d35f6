"""Reading columns of a table by GETBULK, whole rows at a time."""

from collections.abc import Sequence
from dataclasses import dataclass

from lumtar.wire import ber
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.pdu import Value
from lumtar.wire.session import Session

FITTING = 48
"""Variable bindings that fit a datagram of 1,500 octets, whatever the counters hold."""
MOST_ROWS = 20_000


@dataclass(slots=True)
class Column:
    """One column as read: encoded indexes in their order, and the values beside them."""

    prefix: bytes
    indexes: list[bytes]
    values: list[Value]
    done: bool = False

    @property
    def cursor(self) -> bytes:
        """The object identifier after which reading goes on."""
        return self.prefix + self.indexes[-1] if self.indexes else self.prefix


async def read_columns(session: Session, prefixes: Sequence[bytes], rows: int | None = None) -> list[Column]:
    """Read whole columns.

    Parameters
    ----------
    prefixes : encoded object identifiers of the columns
    rows : how many rows there are, if that is known: reading then stops after so many,
        without asking what comes next

    Raises
    ------
    Fault
        as for the session; LOOP if the device's answers do not advance
    """
    columns = [Column(prefix, [], []) for prefix in prefixes]
    expected = MOST_ROWS if rows is None else rows
    while expected and (active := [column for column in columns if not column.done]):
        # Those that are furthest behind first: what is left of long columns is then read of many together.
        active.sort(key=lambda column: len(column.indexes))
        missing = max(1, min(expected - len(active[0].indexes), FITTING))
        group = active[: FITTING // missing]
        await _read_on(session, group, missing)
        if rows is not None:
            for column in group:
                column.done |= len(column.indexes) >= expected
    return columns


async def _read_on(session: Session, group: list[Column], repetitions: int) -> None:
    binds = await session.bulk([column.cursor for column in group], repetitions)
    if not binds.oids:
        raise Fault(FaultKind.GARBLED, "answered a GETBULK with nothing at all")
    count = len(group)
    for place, column in enumerate(group):
        _take(column, binds.oids[place::count], binds.tags[place::count], binds.values[place::count])


def _take(column: Column, oids: list[bytes], tags: list[int], values: list[Value]) -> None:
    """Add one column's share of an answer; leaving the column ends it."""
    prefix, size = column.prefix, len(column.prefix)
    last = column.indexes[-1] if column.indexes else b""
    for oid, tag, value in zip(oids, tags, values, strict=True):
        if not oid.startswith(prefix) or tag in ber.ABSENT:
            column.done = True
            return
        index = oid[size:]
        # Encoded indexes of one length sort as their numbers do; others are decoded first.
        if len(index) == len(last):
            advances = index > last
        else:
            advances = ber.suffix(index) > ber.suffix(last)
        if not advances:
            raise Fault(FaultKind.LOOP, f"its answers go in circles at {ber.dotted(oid)}")
        if len(column.indexes) >= MOST_ROWS:
            raise Fault(FaultKind.LOOP, f"its table at {ber.dotted(prefix)} has more than {MOST_ROWS:,} rows")
        column.indexes.append(index)
        column.values.append(value)
        last = index
