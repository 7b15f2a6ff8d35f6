"""Which level a time of flows is read from: minutes, or hours and the minutes that are not summed up yet."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import connection
from django.utils import timezone

from lumtar.domain.flows.asking import Asked
from lumtar.domain.flows.store import HOURS, MINUTES, NETWORK_HOURS, RESPONSE_HOURS, RESPONSE_MINUTES
from lumtar.domain.operation.partitioned import Partitioned

STEPS = 240
SHORT = timedelta(hours=12)
"""A longer time is read from hours."""


@dataclass(frozen=True, slots=True)
class Levels:
    """Tables of the same columns: by minute, and by hour."""

    minutes: Partitioned
    hours: Partitioned
    instead: "Levels | None" = None
    """What is read where there are no such hours, or whoever asks may not see them since they are of more than their part of the network."""

    def is_fine(self, start: datetime, end: datetime) -> bool:
        """Whether a time is read from minutes: a short one of which there are some."""
        if end - start > SHORT or start <= timezone.now() - self.minutes.kept + timedelta(hours=1):
            return False
        with connection.cursor() as cursor:
            cursor.execute(
                f"""SELECT EXISTS (SELECT 1 FROM {self.minutes} WHERE at >= %(start)s AND at < %(end)s)
                OR NOT EXISTS (SELECT 1 FROM {self.hours} WHERE at >= %(start)s AND at < %(end)s)""",
                {"start": start, "end": end},
            )
            return bool(cursor.fetchone()[0])

    def source(self, start: datetime, end: datetime, values: dict[str, Any], *, is_fine: bool) -> str:
        """A query for the rows of a time, whose values are added."""
        values |= {"start": start, "end": end}
        if is_fine:
            return f"SELECT * FROM {self.minutes} WHERE at >= %(start)s AND at < %(end)s"
        with connection.cursor() as cursor:
            cursor.execute(
                f"SELECT max(at) + interval '1 hour' FROM {self.hours} WHERE at >= %s AND at < %s", [start, end]
            )
            newest = cursor.fetchone()[0]
        if newest is None and self.instead:
            return self.instead.source(start, end, values, is_fine=is_fine)
        cut = newest or start
        values["cut"] = min(cut, end)
        hours = f"SELECT * FROM {self.hours} WHERE at >= %(start)s AND at < %(cut)s"
        return f"{hours} UNION ALL SELECT * FROM {self.minutes} WHERE at >= %(cut)s AND at < %(end)s"


CONVERSATIONS, RESPONSES = Levels(MINUTES, HOURS), Levels(RESPONSE_MINUTES, RESPONSE_HOURS)
NETWORK = Levels(MINUTES, NETWORK_HOURS, CONVERSATIONS)


def levels_of(asked: Asked) -> Levels:
    """From where a question about conversations is answered.

    What is about the whole network, or a site, has sums of its own; whoever asks for an address or a port wants those that were too small for these
    as well.
    """
    is_of_a_part = any(each is not None for each in (asked.interface, asked.device, asked.group, asked.port))
    has_addresses = bool(asked.sender or asked.receiver or asked.address or asked.within)
    return CONVERSATIONS if is_of_a_part or has_addresses else NETWORK


def steps(start: datetime, end: datetime, *, is_fine: bool) -> tuple[datetime, int]:
    """The beginning, rounded down to whole steps, and seconds of a step: so that there are at most STEPS of them."""
    step = 60 if is_fine else 3600
    for length in (60, 120, 300, 600, 900, 1800, 3600, 7200, 21600, 86400):
        step = max(step, length) if length >= step else step
        if (end - start).total_seconds() / step <= STEPS:
            break
    begin = datetime.fromtimestamp(start.timestamp() // step * step, start.tzinfo)
    return begin, step
