"""A pool of connections that recovers at once when the database was away."""

import select
import time
from typing import Any

import psycopg
from django.db.backends.postgresql import base
from psycopg_pool import ConnectionPool

from lumtar.server.database.actor import ACTOR, Actor

AWAY_FOR_S = 1.0
"""Seconds after a failed connection until another one is tried; meanwhile every question is refused at once."""
_away_until = 0.0


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
    """Django's own, which has no setting for how a pool looks at its connections, and knows nobody to ask for."""

    _acting: tuple[str, ...] = ()
    """Settings that this connection has on somebody's behalf."""

    def get_new_connection(self, conn_params: dict[str, Any]) -> Any:
        """A connection. While the database is known to be away nobody waits to hear of it again."""
        global _away_until
        pool = self.pool
        if pool is None:
            return super().get_new_connection(conn_params)
        if time.monotonic() < _away_until:
            raise psycopg.OperationalError("the database was away a moment ago")
        failed = pool.get_stats().get("connections_errors", 0)
        try:
            return super().get_new_connection(conn_params)
        except psycopg.OperationalError:
            if pool.get_stats().get("connections_errors", 0) > failed:
                _away_until = time.monotonic() + AWAY_FOR_S
            raise

    def connect(self) -> None:
        """Open a connection, or take one from the pool; it asks for whoever is acting."""
        super().connect()
        if (actor := ACTOR.get()) is not None:
            self.act_for(actor)

    def act_for(self, actor: Actor) -> None:
        """Ask for somebody from now on; a connection that is not open yet will when it is."""
        settings = actor.settings()
        if self.connection is None or not (settings or actor.role):
            return
        self._acting = tuple(settings)
        with self.cursor() as cursor:
            if settings:
                places = ", ".join(["set_config(%s, %s, false)"] * len(settings))
                cursor.execute(f"SELECT {places}", [word for pair in settings.items() for word in pair])
            if actor.role:
                cursor.execute(f"SET ROLE {actor.role}")

    def act_for_nobody(self) -> None:
        """Ask for nobody from now on. A connection that cannot be brought back to that is closed."""
        acted, self._acting = self._acting, ()
        if not acted or self.connection is None:
            return
        try:
            with self.connection.cursor() as cursor:
                cursor.execute("RESET ROLE")
                for name in acted:
                    cursor.execute("SELECT set_config(%s, '', false)", [name])
        except psycopg.Error:
            # It is in a transaction that failed, or is gone.
            self.connection.close()

    def _close(self) -> None:
        # A pool would hand it on as it is.
        self.act_for_nobody()
        super()._close()  # type: ignore[misc]

    @property
    def pool(self) -> ConnectionPool[Any] | None:
        """The pool, if there is one."""
        pool: ConnectionPool[Any] | None = super().pool
        if pool is not None:
            pool._check = check
        return pool
