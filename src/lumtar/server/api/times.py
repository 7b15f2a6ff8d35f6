"""Times in requests."""

from datetime import UTC, datetime, timedelta

from django.utils import timezone

from lumtar.server.api.problems import Problem

EARLIEST, LATEST = datetime(1990, 1, 1, tzinfo=UTC), datetime(2200, 1, 1, tzinfo=UTC)
LONGEST = timedelta(days=3700)


def past(at: datetime | None) -> datetime | None:
    """A past time, or None for now.

    Raises
    ------
    Problem
        if it lies in the future
    """
    if at is None:
        return None
    at = aware(at)
    if at > timezone.now() + timedelta(minutes=1):
        raise Problem(422, "That time lies in the future.", "at")
    return at


def aware(at: datetime) -> datetime:
    """A time in UTC; without a zone it is UTC already.

    Raises
    ------
    Problem
        if it lies where no reading can
    """
    try:
        moment = at.astimezone(UTC) if at.tzinfo else at.replace(tzinfo=UTC)
    except OverflowError:
        moment = EARLIEST - timedelta(days=1)
    if not EARLIEST <= moment < LATEST:
        raise Problem(422, f"A time must be between {EARLIEST:%Y} and {LATEST:%Y}.", "at")
    return moment


def span(start: datetime | None, end: datetime | None, default: timedelta) -> tuple[datetime, datetime]:
    """A half-open time range, by default up to now.

    Raises
    ------
    Problem
        if it is empty or too long
    """
    until = aware(end) if end else timezone.now()
    since = aware(start) if start else until - default
    if since >= until:
        raise Problem(422, "The range ends before it starts.", "start")
    if until - since > LONGEST:
        raise Problem(422, "The range is longer than ten years.", "start")
    return since, until
