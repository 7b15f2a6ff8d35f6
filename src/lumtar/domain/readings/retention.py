"""For how long each level is kept."""

from datetime import UTC, date, datetime, timedelta

from django.db import connection, transaction
from django.utils import timezone

from lumtar.core.levels import Kept, Level
from lumtar.core.refusal import Refusal
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark
from lumtar.domain.readings.models import Retention

FIELDS = {
    Level.READINGS: "readings_days",
    Level.FIVE_MINUTES: "five_minutes_days",
    Level.HOURS: "hours_days",
    Level.DAYS: "days_days",
}
LEAST_DAYS, MOST_DAYS = 2, 7320


def current() -> Retention:
    """What is set."""
    return Retention.objects.order_by("pk").first() or Retention()


def oldest_days(now: datetime) -> dict[Level, date]:
    """The first day (UTC) of each level that is kept."""
    today, kept_for = now.astimezone(UTC).date(), current()
    return {level: today - timedelta(days=getattr(kept_for, field)) for level, field in FIELDS.items()}


def kept(now: datetime) -> list[Kept]:
    """From when to when each level can be read, finest first; one query."""
    fields = ", ".join(FIELDS.values())
    with connection.cursor() as cursor:
        cursor.execute(
            f"SELECT least((SELECT max(until) FROM readings_rolledup), (SELECT min(at) FROM readings_due)), r.*"
            f" FROM (SELECT 1) one LEFT JOIN (SELECT {fields} FROM readings_retention ORDER BY id LIMIT 1) r ON true"
        )
        until, *days = cursor.fetchone()
    usual = Retention()
    levels = []
    for (level, field), count in zip(FIELDS.items(), days, strict=True):
        midnight = now.astimezone(UTC).replace(hour=0, minute=0, second=0, microsecond=0)
        since = (midnight - timedelta(days=count or getattr(usual, field))).timestamp()
        if level == Level.READINGS:
            levels.append(Kept(level, since))
        else:
            levels.append(Kept(level, since, until.timestamp() if until else 0.0))
    return levels


def are_readings_kept(moment: datetime) -> bool:
    """Whether readings as they were polled are still there for this time."""
    return moment.astimezone(UTC).date() >= oldest_days(timezone.now())[Level.READINGS]


def change(days: dict[Level, int], edition: int, by: str) -> Retention:
    """Keep levels for another time. What is older is dropped by the next hourly job.

    Raises
    ------
    Refusal
        with a sentence for the person who wants it
    Stale
        if somebody else changed it meanwhile
    """
    wanted = [days[level] for level in FIELDS]
    for level, number in days.items():
        if not LEAST_DAYS <= number <= MOST_DAYS:
            raise Refusal(f"{level.capitalize()} are kept for {LEAST_DAYS} to {MOST_DAYS:,} days.")
    if wanted != sorted(wanted):
        raise Refusal("A coarser level is kept at least as long as a finer one: it is what remains of it.")
    with transaction.atomic():
        Retention.objects.get_or_create(pk=1)
        row = claim(Retention, 1, edition)
        for level, field in FIELDS.items():
            setattr(row, field, days[level])
        mark(row, by)
        note_action("kept for days: " + ", ".join(f"{level} {number}" for level, number in days.items()), by)
    return row
