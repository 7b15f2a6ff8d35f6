"""Columns of tables as any agent may give them: with holes, of any length, in answers cut short at will."""

from bisect import bisect_right

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.wire import ber, oids
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.pdu import VarBinds
from lumtar.wire.tables import FITTING, MOST_ROWS, read_columns

STORAGE_TYPE = ber.oid_body("1.3.6.1.2.1.25.2.3.1.2")

TABLE = "1.3.6.1.4.1.32473.5.1"
AFTER = ber.oid_body("1.3.6.1.4.1.32473.6.0")


def column(number):
    return ber.oid_body(f"{TABLE}.{number}")


class Agent:
    """Holds a table and answers GETBULK from it (RFC 3416, section 4.2.3); ``short`` are the lengths that it cuts answers to."""

    def __init__(self, cells, short=()):
        held = {column(col) + ber.subidentifiers([row]): 1000 * col + row for col, row in cells} | {AFTER: 0}
        self._held = sorted((ber.suffix(oid), oid, value) for oid, value in held.items())
        self._short = list(short)
        self.requests = 0
        self.most = 0

    async def bulk(self, oids, repetitions):
        self.requests += 1
        self.most = max(self.most, len(oids) * repetitions)
        found = VarBinds([], [], [])
        cursors = list(oids)
        for _ in range(repetitions):
            for place, cursor in enumerate(cursors):
                at = bisect_right(self._held, ber.suffix(cursor), key=lambda cell: cell[0])
                over = at == len(self._held)
                cursors[place] = cursor if over else self._held[at][1]
                found.oids.append(cursors[place])
                found.tags.append(ber.END_OF_MIB_VIEW if over else ber.COUNTER32)
                found.values.append(b"" if over else self._held[at][2])
        if self._short:
            size = max(len(oids), self._short.pop())
            found = VarBinds(found.oids[:size], found.tags[:size], found.values[:size])
        return found


CELLS = st.sets(st.tuples(st.integers(1, 6), st.integers(1, 3000)), max_size=250)


def truth(cells, col):
    return [(ber.subidentifiers([row]), 1000 * col + row) for row in sorted(row for each, row in cells if each == col)]


@given(cells=CELLS, short=st.lists(st.integers(1, 60), max_size=12))
async def test_whole_columns_are_read_whatever_the_answers_look_like(cells, short):
    agent = Agent(cells, short)
    found = await read_columns(agent, [column(number) for number in range(1, 7)])
    for number, told in enumerate(found, 1):
        assert list(zip(told.indexes, told.values, strict=True)) == truth(cells, number)
    assert agent.most <= FITTING


@given(rows=st.integers(1, 400), columns=st.integers(1, 20))
async def test_of_a_full_table_no_request_is_wasted(rows, columns):
    cells = {(col, row) for col in range(1, columns + 1) for row in range(1, rows + 1)}
    agent = Agent(cells)
    found = await read_columns(agent, [column(number) for number in range(1, columns + 1)], rows)
    assert [len(told.values) for told in found] == [rows] * columns
    # Answers are filled as far as whole columns allow, so at most half of the room stays empty.
    assert agent.requests <= -(-2 * rows * columns // FITTING) + columns


class Lying:
    """Answers one column with the rows it was given, whatever they are, and remembers what was refused of it."""

    def __init__(self, prefix, rows):
        self._rows = [(prefix + index, tag, value) for index, tag, value in rows] + [(AFTER, ber.INTEGER, 0)]
        self.refused = {}

    def refuse(self, name, words):
        self.refused[name] = words

    async def bulk(self, oids, repetitions):
        place = next((n + 1 for n, row in enumerate(self._rows) if row[0] == oids[0]), 0)
        return VarBinds(*(list(each) for each in zip(*self._rows[place : place + repetitions], strict=True)))


@pytest.mark.parametrize(
    ("prefix", "index", "tag", "value", "name"),
    [
        (oids.IF_TYPE, b"\x02", ber.INTEGER, -7, "ifType"),
        (oids.IF_TYPE, b"\x02", ber.OUT_OF_RANGE, b"", None),
        (oids.IF_HIGH_SPEED, b"\x02", ber.OCTET_STRING, b"fast", "ifHighSpeed"),
        (oids.IF_DESCR, b"\x02", ber.OCTET_STRING, b"x" * 5000, "ifDescr"),
        (oids.IF_DESCR, b"\x80\x02", ber.OCTET_STRING, b"x", "ifDescr"),
        (oids.IF_DESCR, b"\x90\x80\x80\x80\x00", ber.OCTET_STRING, b"x", "ifDescr"),
        (oids.IF_DESCR, b"\x02\x01", ber.OCTET_STRING, b"x", "ifDescr"),
        (STORAGE_TYPE, b"\x02", ber.OBJECT_IDENTIFIER, b"\x2b\x86", "hrStorageType"),
    ],
)
async def test_a_row_that_no_mib_allows_is_left_out_and_named(prefix, index, tag, value, name):
    good = b"g1" if prefix == oids.IF_DESCR else b"\x2b\x06" if prefix == STORAGE_TYPE else 6
    session = Lying(prefix, [(b"\x01", ber.INTEGER, good), (index, tag, value), (b"\xbf\x7f", ber.INTEGER, good)])
    (column,) = await read_columns(session, [prefix])
    assert (column.indexes, column.values) == ([b"\x01", b"\xbf\x7f"], [good, good])
    assert list(session.refused) == ([name] if name else [])


async def test_answers_in_circles_end():
    class Circling(Agent):
        async def bulk(self, oids, repetitions):
            again = [column(1) + ber.subidentifiers([7])] * (len(oids) * repetitions)
            return VarBinds(again, [ber.COUNTER32] * len(again), [1] * len(again))

    with pytest.raises(Fault) as met:
        await read_columns(Circling(set()), [column(1)])
    assert met.value.kind is FaultKind.LOOP and TABLE in met.value.words


async def test_a_table_without_end_is_left():
    class Endless(Agent):
        async def bulk(self, oids, repetitions):
            first = ber.suffix(oids[0])[-1] if oids[0] != column(1) else 0
            rows = [column(1) + ber.subidentifiers([first + 1 + number]) for number in range(repetitions)]
            return VarBinds(rows, [ber.COUNTER32] * len(rows), [1] * len(rows))

    with pytest.raises(Fault) as met:
        await read_columns(Endless(set()), [column(1)])
    assert met.value.kind is FaultKind.LOOP and f"{MOST_ROWS:,} rows" in met.value.words


async def test_an_empty_answer_is_no_answer():
    class Empty(Agent):
        async def bulk(self, oids, repetitions):
            return VarBinds([], [], [])

    with pytest.raises(Fault, match="nothing at all"):
        await read_columns(Empty(set()), [column(1)])
