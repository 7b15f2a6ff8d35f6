"""How often periodic jobs are due, and which jobs are stuck."""

from datetime import UTC, datetime
from functools import cache

from croniter import croniter
from django.db import connection
from procrastinate import App


@cache
def periods(app: App) -> dict[str, int]:
    """Seconds between two runs of each periodic task, by the task's name."""
    periods_s = {}
    for each in app.periodic_registry.periodic_tasks.values():
        times = croniter(each.cron, datetime(2026, 1, 1, tzinfo=UTC))
        first, second = times.get_next(datetime), times.get_next(datetime)
        periods_s[each.task.name] = int((second - first).total_seconds())
    return periods_s


def stalled(after_s: float) -> list[tuple[int, str]]:
    """Jobs (number and task) that somebody began who has given no sign of life for so many seconds."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT j.id, j.task_name FROM procrastinate_jobs j LEFT JOIN procrastinate_workers w ON w.id = j.worker_id"
            " WHERE j.status = 'doing' AND (w.id IS NULL OR w.last_heartbeat < now() - %s * interval '1 second')",
            [after_s],
        )
        return list(cursor.fetchall())
