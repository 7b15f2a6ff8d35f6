"""What Lumtar's own processes said of themselves."""

from datetime import UTC, datetime

from lumtar.domain.operation.models import Process


def last_collected() -> datetime | None:
    """Up to when everything that a collector had read was stored, as far as is known; None before the first start."""
    times = []
    for process in Process.objects.filter(kind="collector"):
        until = process.detail.get("stored_until")
        stored = datetime.fromtimestamp(until, UTC) if until else process.beat_at
        times.append(min(stored, process.beat_at))
    return max(times, default=None)
