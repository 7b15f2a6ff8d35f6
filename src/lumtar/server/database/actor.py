"""For whom the database is asked: whoever changes something is named, and who is limited sees their part alone."""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from uuid import UUID, uuid4

from lumtar.core.access import LIMITED_ROLE


@dataclass(frozen=True, slots=True)
class Actor:
    """Somebody on whose behalf the database is asked.

    Attributes
    ----------
    by : the name in the audit trail; empty where nothing is to be written down
    limits : what the policies of domain/accounts/limits.py look at; None if everything may be seen
    """

    by: str = ""
    request: UUID = field(default_factory=uuid4)
    limits: Mapping[str, str] | None = None

    def settings(self) -> dict[str, str]:
        """Settings of the connection."""
        settings = dict(self.limits or {})
        if self.by:
            settings |= {"lumtar.by": self.by, "lumtar.request": str(self.request)}
        return settings

    @property
    def role(self) -> str | None:
        """The database's role to ask as."""
        return LIMITED_ROLE if self.limits is not None else None


ACTOR: ContextVar[Actor | None] = ContextVar("actor", default=None)
"""Every connection that is opened or taken from the pool meanwhile asks for this one."""


def begin(actor: Actor) -> None:
    """From now on in this context everything is asked for somebody."""
    from django.db import connection

    ACTOR.set(actor)
    connection.act_for(actor)  # type: ignore[attr-defined]


def end() -> None:
    """From now on nothing is."""
    from django.db import connection

    ACTOR.set(None)
    connection.act_for_nobody()  # type: ignore[attr-defined]


@contextmanager
def acting(by: str) -> Iterator[None]:
    """What is changed meanwhile is in the audit trail under a name: for management commands."""
    begin(Actor(by))
    try:
        yield
    finally:
        end()
