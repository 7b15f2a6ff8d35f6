"""How often periodic jobs are due."""

from datetime import UTC, datetime
from functools import cache

from croniter import croniter
from procrastinate import App


@cache
def periods(app: App) -> dict[str, int]:
    """Seconds between two runs of each periodic task, by the task's name."""
    found = {}
    for each in app.periodic_registry.periodic_tasks.values():
        times = croniter(each.cron, datetime(2026, 1, 1, tzinfo=UTC))
        first, second = times.get_next(datetime), times.get_next(datetime)
        found[each.task.name] = int((second - first).total_seconds())
    return found
