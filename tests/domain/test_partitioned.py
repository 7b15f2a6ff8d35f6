"""Tables that are partitioned by time: made once, looked at, and dropped when they are old."""

from datetime import UTC, datetime, timedelta

import pytest
from django.db import DatabaseError, connection

from lumtar.domain.flows import store
from lumtar.domain.operation.partitioned import Partitioned

pytestmark = pytest.mark.django_db
HOUR, DAY = timedelta(hours=1), timedelta(days=1)
AT = datetime(2026, 11, 26, 22, 30, tzinfo=UTC)


@pytest.fixture
def table():
    with connection.cursor() as cursor:
        cursor.execute("CREATE TABLE some_minutes (at timestamptz NOT NULL, value int) PARTITION BY RANGE (at)")
    return Partitioned("some_minutes", 6 * HOUR, 2 * DAY)


def partitions():
    with connection.cursor() as cursor:
        cursor.execute("SELECT inhrelid::regclass::text FROM pg_inherits WHERE inhparent = 'some_minutes'::regclass")
        return sorted(row[0] for row in cursor.fetchall())


def put(at):
    with connection.cursor() as cursor:
        cursor.execute("INSERT INTO some_minutes VALUES (%s, 1)", [at])


def test_partitions_are_made_once_and_meet_without_a_gap(table):
    for _ in range(2):
        table.ensure(AT, AT + 8 * HOUR)
    assert partitions() == ["some_minutes_20261126_18", "some_minutes_20261127_00", "some_minutes_20261127_06"]
    for minutes in range(0, 9 * 60, 30):
        put(AT + timedelta(minutes=minutes))
    with pytest.raises(DatabaseError):
        put(AT + 40 * HOUR)


def test_what_is_older_than_it_is_kept_is_dropped_and_nothing_else(table):
    table.ensure(AT - 3 * DAY, AT)
    before = partitions()
    assert table.drop_old(AT) == len(before) - len(partitions())
    # The partition that ends within the two days has rows that are to be kept.
    assert partitions()[0] == "some_minutes_20261124_18"
    assert table.drop_old(AT) == 0


def test_the_database_knows_how_many_rows_there_are_once_it_has_looked(table):
    table.ensure(AT, AT)
    for _ in range(30):
        put(AT)
    table.analyse(AT)
    with connection.cursor() as cursor:
        cursor.execute("SELECT reltuples FROM pg_class WHERE relname = 'some_minutes_20261126_18'")
        assert cursor.fetchone()[0] == 30


def test_every_table_of_flows_is_there_by_its_name(db):
    with connection.cursor() as cursor:
        for table in store.TABLES:
            cursor.execute("SELECT to_regclass(%s) IS NOT NULL", [str(table)])
            assert cursor.fetchone()[0], table
