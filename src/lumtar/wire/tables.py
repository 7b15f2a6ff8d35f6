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
    if not expected:
        return columns
    # Few rows: many columns in one request. Many rows: one column, many repetitions.
    width = max(1, FITTING // min(expected, FITTING))
    for start in range(0, len(columns), width):
        await _read_together(session, columns[start : start + width], expected, rows is not None)
    return columns


async def _read_together(session: Session, group: list[Column], expected: int, known: bool) -> None:
    active = group
    while active:
        missing = expected - min(len(column.indexes) for column in active)
        repetitions = max(1, min(missing if known else FITTING, FITTING // len(active)))
        binds = await session.bulk([column.cursor for column in active], repetitions)
        if not binds.oids:
            raise Fault(FaultKind.GARBLED, "answered a GETBULK with nothing at all")
        count = len(active)
        for place, column in enumerate(active):
            _take(column, binds.oids[place::count], binds.tags[place::count], binds.values[place::count])
            column.done |= known and len(column.indexes) >= expected
        active = [column for column in active if not column.done]


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
