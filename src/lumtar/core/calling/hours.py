"""Hours of the week as people write them: ``Mon-Fri 08:00-18:00, Sat 10:00-14:00``."""

import re
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from lumtar.core.refusal import Refusal

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
DAY_MIN, WEEK_MIN = 24 * 60, 7 * 24 * 60
LONGEST = 300
_PART = re.compile(r"(?:(?P<days>[a-z]{3}(?:\s*-\s*[a-z]{3})?)\s+)?(?P<from>\d\d?:\d\d)\s*-\s*(?P<to>\d\d?:\d\d)")
_DAYS_ALONE = re.compile(r"(?P<days>[a-z]{3}(?:\s*-\s*[a-z]{3})?)")


@lru_cache(maxsize=200)
def zone_of(name: str) -> ZoneInfo:
    """A time zone of the IANA database.

    Raises
    ------
    Refusal
    """
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise Refusal(f"“{name[:60]}” is no time zone; write one like Europe/London or UTC.", "zone") from error


@dataclass(frozen=True, slots=True)
class Hours:
    """Hours that return every week, in a time zone; without any they are always.

    Attributes
    ----------
    text : as it was written
    zone : name of the time zone
    spans : (first, end) in minutes since Monday 00:00 local time, half-open; an end may lie in the next week

    Examples
    --------
    >>> Hours.of("Fri 22:00-06:00", "UTC").spans
    ((7080, 7560),)
    """

    text: str
    zone: str
    spans: tuple[tuple[int, int], ...]

    @classmethod
    def of(cls, text: str, zone: str = "UTC") -> "Hours":
        """Understand what somebody wrote. Hours that end before they begin go on into the next day.

        Raises
        ------
        Refusal
        """
        zone_of(zone)
        if len(text) > LONGEST:
            raise Refusal(f"Hours are written with at most {LONGEST} characters.", "hours")
        parts = [part.strip().lower() for part in text.split(",") if part.strip()]
        return cls(text.strip(), zone, tuple(span for part in parts for span in _spans(part)))

    def includes(self, at: datetime) -> bool:
        """Whether a time (with a zone) is within the hours."""
        return not self.spans or self._span_at(at) is not None

    def end_after(self, at: datetime) -> datetime | None:
        """When the hours that a time is within end; None if it is within none, or if they never end."""
        span = self._span_at(at)
        if not self.spans or span is None:
            return None
        local = at.astimezone(zone_of(self.zone))
        # Whoever writes 06:00 means the clock on the wall, whatever it does in between.
        end = local.replace(tzinfo=None, second=0, microsecond=0) + timedelta(minutes=span[1] - self._minute(local))
        return end.replace(tzinfo=zone_of(self.zone)).astimezone(at.tzinfo)

    def _span_at(self, at: datetime) -> tuple[int, int] | None:
        minute = self._minute(at.astimezone(zone_of(self.zone)))
        for first, end in self.spans:
            for shift in (0, WEEK_MIN):
                if first <= minute + shift < end:
                    return first - shift, end - shift
        return None

    @staticmethod
    def _minute(local: datetime) -> int:
        return local.weekday() * DAY_MIN + local.hour * 60 + local.minute


def _spans(part: str) -> list[tuple[int, int]]:
    if alone := _DAYS_ALONE.fullmatch(part):
        return [(day * DAY_MIN, (day + 1) * DAY_MIN) for day in _days(alone["days"], part)]
    match = _PART.fullmatch(part)
    if match is None:
        raise Refusal(
            f"“{part[:60]}” is not understood; write hours like Mon-Fri 08:00-18:00, Sat 10:00-14:00.", "hours"
        )
    begin, end = _minutes(match["from"]), _minutes(match["to"])
    if end <= begin:
        end += DAY_MIN
    days = _days(match["days"], part) if match["days"] else list(range(7))
    return [(day * DAY_MIN + begin, day * DAY_MIN + end) for day in days]


def _days(text: str, part: str) -> list[int]:
    names = [name.strip() for name in text.split("-")]
    if unknown := [name for name in names if name not in DAYS]:
        raise Refusal(
            f"“{unknown[0]}” in “{part[:60]}” is no day; the days are Mon, Tue, Wed, Thu, Fri, Sat, Sun.", "hours"
        )
    first, last = DAYS.index(names[0]), DAYS.index(names[-1])
    return [day % 7 for day in range(first, last + 1 if last >= first else last + 8)]


def _minutes(text: str) -> int:
    hour, minute = (int(each) for each in text.split(":"))
    if not (0 <= minute < 60 and 0 <= hour * 60 + minute <= DAY_MIN):
        raise Refusal(f"“{text}” is no time of the day.", "hours")
    return hour * 60 + minute
