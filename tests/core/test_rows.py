from dataclasses import dataclass
from itertools import chain

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.rows import join_rows, take_rows


@dataclass(frozen=True)
class Inner:
    words: np.ndarray


@dataclass(frozen=True)
class Table:
    numbers: np.ndarray
    pairs: np.ndarray
    inner: Inner


def table(numbers):
    n = np.array(numbers, np.int64)
    return Table(n, np.column_stack([n, -n]), Inner(n.astype("U24")))


def told(one):
    return [one.numbers.tolist(), one.pairs.tolist(), one.inner.words.tolist()]


many = st.lists(st.integers(-(2**40), 2**40), max_size=8)


@given(many, st.data())
def test_taking_rows_is_taking_them_everywhere(numbers, data):
    rows = data.draw(st.lists(st.integers(0, len(numbers) - 1), max_size=8)) if numbers else []
    assert told(take_rows(table(numbers), rows)) == told(table([numbers[row] for row in rows]))


@given(many)
def test_a_mask_takes_what_it_marks(numbers):
    whole = table(numbers)
    assert told(take_rows(whole, whole.numbers > 0)) == told(table([each for each in numbers if each > 0]))


@given(st.lists(many, min_size=1, max_size=4))
def test_joining_keeps_the_order(parts):
    assert told(join_rows([table(part) for part in parts])) == told(table(list(chain(*parts))))


def test_what_was_taken_is_a_copy():
    whole = table([1, 2])
    taken = take_rows(whole, [0, 1])
    whole.numbers[0] = 9
    assert taken.numbers.tolist() == [1, 2]
