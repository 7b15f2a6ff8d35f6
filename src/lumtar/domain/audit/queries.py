"""The audit trail as a list."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import orjson
from django.db import connection

from lumtar.domain.audit.triggers import TABLES


@dataclass(frozen=True, slots=True)
class Change:
    """What became of one thing: of which kind it is, what it is called, and each column from what to what."""

    what: str
    name: str
    kind: str
    before: dict[str, Any]
    after: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Entry:
    """Something that somebody asked for; ``status`` is that of HTTP, 0 where it came another way."""

    at: datetime
    by: str
    via: str
    address: str | None
    what: str
    path: str
    status: int
    changes: list[Change]
    more: int


SHOWN = 20
"""Changes of one request that are listed."""
FIND = """WITH found AS (
    SELECT e.request, e.at, e.by, e.via, host(e.address) AS address, e.what, e.path, e.status FROM audit_auditentry e
    UNION ALL
    SELECT c.request, min(c.at), min(c.by), 'the command line', NULL, 'manage', '', 0 FROM audit_auditchange c
    WHERE NOT EXISTS (SELECT 1 FROM audit_auditentry e WHERE e.request = c.request) GROUP BY c.request
)
SELECT f.*, count(*) OVER () AS total FROM found f
WHERE f.at >= %(start)s AND f.at < %(end)s AND (%(words)s::text[] IS NULL OR NOT EXISTS (
    SELECT 1 FROM unnest(%(words)s::text[]) word WHERE NOT (
        lower(concat_ws(' ', f.by, f.via, f.address, f.what, f.path)) LIKE word
        OR EXISTS (SELECT 1 FROM audit_auditchange c WHERE c.request = f.request
            AND lower(concat_ws(' ', c.name, c.before::text, c.after::text)) LIKE word))))
ORDER BY f.at DESC, f.request LIMIT %(limit)s OFFSET %(offset)s"""


def entries(
    start: datetime, end: datetime, words: str = "", offset: int = 0, limit: int = 100
) -> tuple[list[Entry], int]:
    """What was asked for from start to end, the newest first, and how many there are in all.

    Parameters
    ----------
    words : every one of them occurs in who, what, where, or in what was changed
    """
    patterns = [f"%{_plain(word)}%" for word in words.lower().split()] or None
    values = {"start": start, "end": end, "words": patterns, "limit": limit, "offset": offset}
    with connection.cursor() as cursor:
        cursor.execute(FIND, values)
        rows = cursor.fetchall()
        cursor.execute(
            """SELECT request, "table", name, kind, before, after FROM audit_auditchange
            WHERE request = ANY(%s) ORDER BY id""",
            [[row[0] for row in rows if row[0]]],
        )
        changes: dict[Any, list[Change]] = {}
        for request, table, name, kind, before, after in cursor.fetchall():
            says = TABLES[table].says if table in TABLES else table
            changes.setdefault(request, []).append(Change(says, name, kind, _loaded(before), _loaded(after)))
    listed = []
    for request, at, by, via, address, what, path, status, _ in rows:
        mine = changes.get(request, [])
        listed.append(Entry(at, by, via, address, what, path, status, mine[:SHOWN], max(0, len(mine) - SHOWN)))
    return listed, int(rows[0][-1]) if rows else 0


def _plain(word: str) -> str:
    for letter in "\\%_":
        word = word.replace(letter, "\\" + letter)
    return word


def _loaded(stored: str | dict[str, Any]) -> dict[str, Any]:
    values: dict[str, Any] = orjson.loads(stored) if isinstance(stored, str) else stored
    return values
