"""Rows of dataclasses whose fields are arrays with one entry a row along the first axis, or such dataclasses themselves."""

from collections.abc import Sequence
from dataclasses import fields, is_dataclass
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

T = TypeVar("T")


def take_rows(table: T, rows: NDArray[Any] | Sequence[int]) -> T:
    """A copy of some rows, in this order; ``rows`` are numbers or a mask."""
    chosen = np.flatnonzero(rows) if np.asarray(rows).dtype == bool else np.asarray(rows, np.int64)
    values = {}
    for each in fields(table):  # type: ignore[arg-type]
        value = getattr(table, each.name)
        values[each.name] = take_rows(value, chosen) if is_dataclass(value) else np.take(value, chosen, axis=0)
    return type(table)(**values)


def join_rows(tables: Sequence[T]) -> T:
    """The rows of several tables of one kind, one after the other; there is at least one table."""
    values = {}
    for each in fields(tables[0]):  # type: ignore[arg-type]
        parts = [getattr(table, each.name) for table in tables]
        values[each.name] = join_rows(parts) if is_dataclass(parts[0]) else np.concatenate(parts)
    return type(tables[0])(**values)
