"""Errands: something that a collector is asked to do now, where it is, and that somebody waits for.

What is asked may hold secrets, so it is kept encrypted, and deleted with its answers once it is over.
"""

from typing import Any
from uuid import UUID, uuid4

import orjson
from django.db import connection
from django.utils import timezone

from lumtar.domain.operation.models import Errand, ErrandLine
from lumtar.domain.operation.secrets import seal, unseal

ALIVE_S = 15.0
KEPT = "10 minutes"


def somebody_collects() -> bool:
    """Whether a collector runs that could be asked."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT EXISTS (SELECT 1 FROM operation_process WHERE kind = 'collector' AND stopped_at IS NULL"
            " AND beat_at > now() - %s * interval '1 second')",
            [ALIVE_S],
        )
        return bool(cursor.fetchone()[0])


def ask(kind: str, request: dict[str, Any]) -> UUID:
    """Ask for something to be done."""
    with connection.cursor() as cursor:
        # Nobody waits for these any more.
        cursor.execute(f"DELETE FROM operation_errand WHERE asked_at < now() - interval '{KEPT}'")
    return Errand.objects.create(id=uuid4(), kind=kind, sealed=seal(orjson.dumps(request).decode())).pk


def take(collector: str) -> list[tuple[UUID, str, dict[str, Any]]]:
    """Take what is open; each errand is taken by one collector."""
    with connection.cursor() as cursor:
        cursor.execute(
            """UPDATE operation_errand SET taken_by = %s, taken_at = now() WHERE id IN (
                SELECT id FROM operation_errand WHERE taken_at IS NULL AND stopped_at IS NULL
                ORDER BY asked_at LIMIT 8 FOR UPDATE SKIP LOCKED) RETURNING id, kind, sealed""",
            [collector],
        )
        rows = cursor.fetchall()
    return [(number, kind, orjson.loads(unseal(sealed))) for number, kind, sealed in rows]


def say(errand: UUID, number: int, line: dict[str, Any]) -> bool:
    """Write one line of the answer. Returns whether anybody still waits for more."""
    ErrandLine.objects.create(errand_id=errand, number=number, line=line)
    return Errand.objects.filter(pk=errand, stopped_at=None).exists()


def end(errand: UUID) -> None:
    """All is said."""
    Errand.objects.filter(pk=errand).update(done_at=timezone.now())


def heard(errand: UUID, after: int) -> tuple[list[dict[str, Any]], bool, bool]:
    """What was said since a line, whether somebody has taken it, and whether that is all."""
    times = Errand.objects.filter(pk=errand).values_list("taken_at", "done_at").first()
    if times is None:
        return [], True, True
    lines = ErrandLine.objects.filter(errand_id=errand, number__gt=after).order_by("number")
    return list(lines.values_list("line", flat=True)), times[0] is not None, times[1] is not None


def leave(errand: UUID) -> None:
    """Nobody waits any more: whoever is at it stops, and what was asked is forgotten."""
    if not Errand.objects.filter(pk=errand, done_at=None).update(stopped_at=timezone.now(), sealed=""):
        Errand.objects.filter(pk=errand).delete()
