"""What a stand-in device answers: columns of encoded values in the order of their object identifiers."""

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from lumtar.wire import ber
from lumtar.wire.ber import oid_body

Values = Callable[[float], Sequence[bytes]]
"""Encoded values of a whole column at an instant."""

SCALAR = [b"\x00"]


@dataclass(slots=True)
class Column:
    """``indexes`` are encoded, in order; a scalar is a column whose one index is 0."""

    prefix: bytes
    indexes: list[bytes]
    values: Values


class Mib:
    """Columns to look things up in."""

    def __init__(self, columns: list[Column]) -> None:
        self.columns = sorted(
            (column for column in columns if column.indexes), key=lambda column: ber.suffix(column.prefix)
        )
        self._keys = [ber.suffix(column.prefix) for column in self.columns]
        self._by_prefix = {column.prefix: number for number, column in enumerate(self.columns)}

    def exact(self, oid: bytes, at: float) -> bytes | None:
        """The value of one object, or None if there is no such instance."""
        number = bisect_right(self._keys, ber.suffix(oid)) - 1
        if number < 0:
            return None
        column = self.columns[number]
        if not oid.startswith(column.prefix):
            return None
        index = oid[len(column.prefix) :]
        place = self._place(column, index)
        if place < len(column.indexes) and column.indexes[place] == index:
            return column.values(at)[place]
        return None

    @staticmethod
    def _place(column: Column, index: bytes) -> int:
        return bisect_left(column.indexes, ber.suffix(index), key=ber.suffix)

    def after(self, oid: bytes) -> tuple[int, int] | None:
        """Column and row that follow an object identifier."""
        number = self._by_prefix.get(oid)
        if number is not None:
            return number, 0
        key = ber.suffix(oid)
        number = bisect_right(self._keys, key) - 1
        if number < 0:
            return (0, 0) if self.columns else None
        column = self.columns[number]
        if oid.startswith(column.prefix):
            place = bisect_right(column.indexes, ber.suffix(oid[len(column.prefix) :]), key=ber.suffix)
            if place < len(column.indexes):
                return number, place
        return (number + 1, 0) if number + 1 < len(self.columns) else None

    def run(self, oid: bytes, repetitions: int, at: float) -> list[bytes]:
        """Encoded variable bindings that follow an object identifier, up to the end of the view."""
        entry = self.after(oid)
        binds: list[bytes] = []
        while entry is not None and len(binds) < repetitions:
            number, place = entry
            column = self.columns[number]
            stop = min(len(column.indexes), place + repetitions - len(binds))
            values = column.values(at)
            binds += [bind(column.prefix + column.indexes[row], values[row]) for row in range(place, stop)]
            entry = (number, stop) if stop < len(column.indexes) else (number + 1, 0)
            if entry[0] >= len(self.columns):
                entry = None
        if len(binds) < repetitions:
            last = oid
            if binds:
                _, start, end = ber.read(binds[-1], 2)
                last = binds[-1][start:end]
            binds.append(bind(last, bytes((ber.END_OF_MIB_VIEW, 0))))
        return binds


def bind(oid: bytes, value: bytes) -> bytes:
    """One encoded variable binding."""
    size = len(oid)
    body = b"\x06" + ber.length(size) + oid + value
    return b"\x30" + ber.length(len(body)) + body


def text(value: str | bytes) -> bytes:
    """An octet string."""
    return ber.tlv(ber.OCTET_STRING, value.encode() if isinstance(value, str) else value)


def constant(value: bytes) -> Values:
    """A scalar that never changes."""
    return lambda at: [value]


def scalar(oid: str, values: Values) -> Column:
    """A scalar; the identifier is given without its final 0."""
    return Column(oid_body(oid), SCALAR, values)


def table(entry: str, column: int, indexes: list[int], values: Values | list[bytes]) -> Column:
    """A column of a table indexed by one number."""
    encoded = [ber.subidentifiers([index]) for index in indexes]
    return Column(oid_body(f"{entry}.{column}"), encoded, values if callable(values) else lambda at: values)
