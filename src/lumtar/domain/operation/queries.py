"""What Lumtar says of itself."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import connection
from django.utils import timezone

from lumtar.domain.operation.models import Process

EXPECTED = ("collector", "worker")
LATE = timedelta(seconds=20)


@dataclass(slots=True)
class ProcessState:
    """A process, whether it lives, and what it said of itself."""

    name: str
    alive: bool
    beat_at: datetime | None
    started_at: datetime | None
    detail: dict[str, Any]


@dataclass(slots=True)
class Health:
    """All processes, the newest reading, and the sentence about it."""

    ok: bool
    words: str
    processes: list[ProcessState]
    newest_reading_at: datetime | None
    readings_fresh: bool
    waiting_jobs: int


def health() -> Health:
    """The state of each process and of the newest data."""
    now = timezone.now()
    known = {process.name: process for process in Process.objects.all()}
    processes = []
    for name in EXPECTED:
        process = known.get(name)
        alive = process is not None and now - process.beat_at < LATE
        beat, started = (process.beat_at, process.started_at) if process else (None, None)
        processes.append(ProcessState(name, alive, beat, started, process.detail if process else {}))
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT max(answered_at), max(interval_s) FROM inventory_devicestate s JOIN inventory_device d ON d.id = s.device_id"
        )
        newest, interval = cursor.fetchone()
        cursor.execute("SELECT count(*) FROM procrastinate_jobs WHERE status = 'todo'")
        waiting = int(cursor.fetchone()[0])
    collector = known.get("collector")
    # After a start the newest reading may be of the run before.
    fresh = bool(
        newest
        and collector
        and newest > collector.started_at
        and now - newest < timedelta(seconds=2 * (interval or 60))
    )
    words = _words(processes, bool(newest), fresh, now)
    return Health(not words, words or "all well", processes, newest, fresh, waiting)


def _words(processes: list[ProcessState], ever: bool, fresh: bool, now: datetime) -> str:
    for process in processes:
        if not process.alive:
            since = f" since {process.beat_at:%H:%M:%S} UTC" if process.beat_at else ""
            return f"the {process.name} is not running{since}"
        if process.detail.get("dropped_rows"):
            return f"{process.detail['dropped_rows']:,} readings were dropped while the database was away"
        if process.detail.get("lag_s", 0) > 30:
            return f"the {process.name} is {process.detail['lag_s']:.0f} s behind"
    collector = processes[0]
    if collector.started_at and now - collector.started_at < timedelta(seconds=90):
        return ""
    return "no device has answered for two intervals" if ever and not fresh else ""
