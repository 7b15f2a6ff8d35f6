"""The web server's pool after the database was away: all its connections are broken, and it knows at once."""

import os
import time

import psycopg
import pytest
from django.conf import settings
from psycopg_pool import ConnectionPool

from lumtar.server.database.base import check
from lumtar.server.settings import database

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def pool(transactional_db):
    wanted = settings.DATABASES["default"]
    named = {"host": "HOST", "port": "PORT", "dbname": "NAME", "user": "USER", "password": "PASSWORD"}
    parameters = {name: wanted[key] for name, key in named.items() if wanted[key]}
    parameters |= {"autocommit": True, "application_name": f"pool test {os.getpid()}"}
    with ConnectionPool(kwargs=parameters, min_size=6, max_size=6, timeout=5, check=check) as made:
        made.wait()
        yield made, parameters


def test_one_broken_connection_means_all_of_them(pool):
    made, parameters = pool
    with psycopg.connect(**{**parameters, "application_name": "somebody else"}) as other:
        cut = other.execute(
            "SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity WHERE application_name = %s",
            [parameters["application_name"]],
        ).fetchall()
    assert len(cut) == 6
    began = time.monotonic()
    with made.connection() as connection:
        assert connection.execute("SELECT 1").fetchone() == (1,)
    assert time.monotonic() - began < 4, "looked at one by one they would have used up the patience"


def test_a_connection_that_works_is_given_as_it_is(pool):
    made, _ = pool

    def backends():
        held = [made.getconn() for _ in range(6)]
        numbers = {each.info.backend_pid for each in held}
        for each in held:
            check(each)
            made.putconn(each)
        return numbers

    before = backends()
    assert len(before) == 6 and backends() == before, "none of them was thrown away"
    assert made.get_stats().get("connections_lost", 0) == 0


def test_outside_a_pool_it_only_looks(pool):
    _, parameters = pool
    alone = psycopg.connect(**parameters)
    check(alone)
    alone.close()
    with pytest.raises(psycopg.OperationalError):
        check(alone)


def test_what_somebody_saves_through_the_web_is_on_the_disk_before_it_is_confirmed(pool, monkeypatch):
    """The database that Lumtar makes for itself would otherwise forget the last half second in a crash."""
    _, parameters = pool
    monkeypatch.setenv("LUMTAR_DATABASE_POOL", "1")
    options = database("postgresql://lumtar@127.0.0.1/lumtar")["OPTIONS"]["options"]
    with psycopg.connect(**parameters, options=options) as asking:
        assert asking.execute("SHOW synchronous_commit").fetchone() == ("on",)
