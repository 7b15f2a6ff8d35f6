"""Rows in bulk: numpy columns to and from PostgreSQL's binary COPY format, a whole block at once.

Every row has the same width, so a block is one structured array. It cannot hold NULL; where
one is wanted, NaN travels and becomes NULL in the statement that reads the block.
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
from django.db import connection
from numpy.typing import NDArray

EPOCH_2000 = 946_684_800
HEADER = b"PGCOPY\n\xff\r\n\0" + bytes(8)
TRAILER = b"\xff\xff"
BEFORE_VALUE = len(HEADER) + 2 + 4
"""Octets before the first value of a row: how many values it has, and how long this one is (-1 for NULL)."""
WIDTHS = {"i2": 2, "i4": 4, "i8": 8, "f4": 4, "f8": 8, "?": 1}
INT8_OID = 20
SENDERS = {"i2": "int2send", "i4": "int4send", "i8": "int8send", "f8": "float8send"}

AMONG = "interface_id IN (SELECT unnest(%(only)s::bigint[]))"
"""A condition: an interface of the list ``only``. Unlike ANY its cost does not grow with rows times list."""

Column = tuple[str, str, NDArray[Any]]
"""Name, numpy type code (``at`` for a time in seconds of the epoch; S with a number for char of so many octets), values; two dimensions for bigint[]."""


def block(columns: Sequence[Column]) -> bytes:
    """The rows of these columns in binary COPY format."""
    rows = len(columns[0][2])
    fields: list[Any] = [("count", ">i2")]
    for name, code, values in columns:
        if values.ndim == 2:
            fields.append((f"{name}_head", ">i4", 6))
            fields.append((name, [("size", ">i4"), ("value", ">i8")], values.shape[1]))
        else:
            kind = "i8" if code == "at" else code
            fields += [(f"{name}_size", ">i4"), (name, kind if kind == "?" or kind[0] == "S" else f">{kind}")]
    out = np.empty(rows, np.dtype(fields))
    out["count"] = len(columns)
    for name, code, values in columns:
        if values.ndim == 2:
            length = values.shape[1]
            out[f"{name}_head"] = (20 + 12 * length, 1, 0, INT8_OID, length, 1)
            out[name]["size"] = 8
            out[name]["value"] = values
        else:
            out[f"{name}_size"] = out.dtype[name].itemsize
            if code == "at":
                out[name] = np.rint((values - EPOCH_2000) * 1e6)
            elif code[0] == "S":
                # Octets of zero are none of PostgreSQL's letters, while blanks at the end of a char mean nothing.
                out[name] = np.char.ljust(values, int(code[1:]))
            else:
                out[name] = values
    return HEADER + out.tobytes() + TRAILER


def fetch(sql: str, values: Mapping[str, Any], columns: Sequence[tuple[str, str]]) -> NDArray[np.void]:
    """The rows of a query as a structured array with one field a column, in no particular order.

    The database packs all rows into one value: a row at a time costs the client ten times as much.

    Parameters
    ----------
    sql : a query whose columns are whole numbers, double precision or bytea of one length, none of them ever NULL
    columns : name and numpy type code of each of them: i2, i4, i8, f8, or what the octets of a bytea stand for
    """
    names = [f"c{number}" for number in range(len(columns))]
    packed = " || ".join(
        f"{SENDERS[code]}({name})" if code in SENDERS else name for name, (_, code) in zip(names, columns, strict=True)
    )
    query = f"SELECT string_agg({packed}, ''::bytea) FROM ({sql}) q({', '.join(names)})"
    # By COPY the value comes as it is; the answer of a query would have it in hexadecimal digits.
    statement = f"COPY ({query}) TO STDOUT (FORMAT BINARY)"
    with connection.cursor() as cursor, connection.wrap_database_errors, cursor.copy(statement, values) as source:
        raw = b"".join(source)
    size = int.from_bytes(raw[BEFORE_VALUE - 4 : BEFORE_VALUE], "big", signed=True)
    rows = np.frombuffer(
        raw[BEFORE_VALUE : BEFORE_VALUE + max(0, size)],
        [(name, f">{code}" if code in SENDERS else code) for name, code in columns],
    )
    return rows.astype([(name, code) for name, code in columns])


def groups(rows: NDArray[np.void], name: str) -> Iterator[tuple[int, NDArray[np.void]]]:
    """The rows of each value of a field, in the order of the values; within one they keep theirs."""
    if len(rows):
        ordered = rows[np.argsort(rows[name], kind="stable")]
        keys, begins = np.unique(ordered[name], return_index=True)
        yield from zip(keys.tolist(), np.split(ordered, begins[1:]), strict=True)


def copy(table: str, columns: Sequence[Column]) -> None:
    """Append rows to a table."""
    names = ", ".join(name for name, _, _ in columns)
    statement = f"COPY {table} ({names}) FROM STDIN (FORMAT BINARY)"
    # COPY goes past Django's cursor, which would otherwise turn psycopg's errors into Django's.
    with connection.cursor() as cursor, connection.wrap_database_errors, cursor.copy(statement) as sink:
        sink.write(block(columns))
