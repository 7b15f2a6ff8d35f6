"""Heartbeats, and announcing changes to the event stream."""

from datetime import datetime
from typing import Any

import orjson
from django.db import connection

from lumtar.domain.operation.models import Process

CHANNEL = "lumtar"


def beat(name: str, started_at: datetime, now: datetime, detail: dict[str, Any]) -> None:
    """Say that a process is alive and what it is doing."""
    Process.objects.update_or_create(name=name, defaults={"started_at": started_at, "beat_at": now, "detail": detail})


def announce(topic: str, ids: list[int] | None = None) -> None:
    """Tell the event streams that something changed: ids, never contents, and no ids if there are too many."""
    told: dict[str, Any] = {"topic": topic}
    if ids and len(ids) <= 500:
        told["ids"] = ids
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [CHANNEL, orjson.dumps(told).decode()])
