"""Heartbeats, how periodic jobs went, and announcing changes to the event stream."""

import os
import socket
from datetime import datetime
from typing import Any

import orjson
from django.db import connection

from lumtar.domain.operation.models import JobRun, Process
from lumtar.domain.operation.topics import Topic

CHANNEL = "lumtar"


def beat(
    name: str, started_at: datetime, now: datetime, detail: dict[str, Any], *, kind: str = "", trouble: str = ""
) -> None:
    """Say that a service's instance is alive, what it is doing, and what it cannot do."""
    state = {
        "kind": kind or name,
        "host": socket.gethostname()[:253],
        "pid": os.getpid(),
        "started_at": started_at,
        "beat_at": now,
        "stopped_at": None,
        "trouble": trouble[:400],
        "detail": detail,
    }
    Process.objects.update_or_create(name=name, defaults=state)


def stopped(name: str, now: datetime) -> None:
    """Say that a service's instance ended as it was told to."""
    Process.objects.filter(name=name).update(stopped_at=now, trouble="")


def note_job(task: str, every_s: int, now: datetime, took_ms: float, problem: str = "") -> None:
    """Write down how a periodic job went."""
    state: dict[str, Any] = {"every_s": every_s, "took_ms": took_ms, "words": problem[:400]}
    state["failed_at" if problem else "succeeded_at"] = now
    JobRun.objects.update_or_create(task=task, defaults=state)


def be_durable() -> None:
    """What this transaction commits is on the disk when it says so.

    Else a database that crashes may forget the last half second of what it had confirmed (synchronous_commit is off for what
    can be done again): readings that a collector believes to be stored, a mail that was marked as sent.
    """
    with connection.cursor() as cursor:
        cursor.execute("SET LOCAL synchronous_commit TO on")


def announce(topic: Topic, ids: list[int] | None = None) -> None:
    """Tell the event streams that something changed: ids, never contents, and no ids if there are too many."""
    message: dict[str, Any] = {"topic": topic}
    if ids and len(ids) <= 500:
        message["ids"] = ids
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [CHANNEL, orjson.dumps(message).decode()])
