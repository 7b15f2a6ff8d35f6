"""A pool of connections that recovers at once when the database was away."""

import select
from typing import Any

import psycopg
from django.db.backends.postgresql import base
from psycopg_pool import ConnectionPool


def check(connection: psycopg.Connection[Any]) -> None:
    """Look at a connection before it is used.

    One that broke while it waited was not alone: the database went away. All that wait are
    replaced at once; tried one after the other they would make the next visitor wait for seconds.

    Raises
    ------
    psycopg.OperationalError
    """
    try:
        # A server that is well says nothing unasked; one that went away has closed the line.
        heard = select.poll()
        heard.register(connection, select.POLLIN)
        if heard.poll(0):
            ConnectionPool.check_connection(connection)
    except psycopg.OperationalError:
        pool: ConnectionPool[Any] | None = getattr(connection, "_pool", None)
        if pool is not None:
            pool.drain()
        raise


class DatabaseWrapper(base.DatabaseWrapper):
    """Django's own, which has no setting for how a pool looks at its connections."""

    @property
    def pool(self) -> ConnectionPool[Any] | None:
        """The pool, if there is one."""
        found: ConnectionPool[Any] | None = super().pool
        if found is not None:
            found._check = check
        return found
