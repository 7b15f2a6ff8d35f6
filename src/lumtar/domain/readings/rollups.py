"""Roll-ups: one row an interface and five minutes, hour or day, summed up by the database from the level below.

What has closed, or got a reading later, is noted as due. A job sums up what is due, with the hours and days around it;
doing it again gives the same.
"""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection, transaction
from numpy.typing import NDArray

from lumtar.core import percentiles
from lumtar.core.counters import VOID, Flag
from lumtar.core.measures.rates import sql_bits_per_second
from lumtar.core.refusal import Refusal
from lumtar.domain.readings import bulk
from lumtar.domain.readings.models import Due, RolledUp

FIVE_MINUTES, HOUR, DAY = timedelta(minutes=5), timedelta(hours=1), timedelta(days=1)
GRACE = timedelta(seconds=20)
"""Five minutes are summed up so long after they have closed; what comes later makes them due again."""
LOCK = 7_402_316
"""Readings are appended under this advisory lock, shared; the moment at which times close is set under it alone."""
AT_ONCE = 2000
"""Interfaces whose five-minute means of a day are put together at once."""

MOST = 2**63 - 1
"""What a sum can hold."""

READINGS = "readings_reading"
SUMMED = (
    "in_octets", "out_octets", "bridged_in_octets", "bridged_out_octets", "in_packets", "out_packets", "in_unicast",
    "out_unicast", "in_errors", "out_errors", "in_discards", "out_discards", "elapsed_ms", "bridged_ms", "readings",
    "up_readings", "void_readings",
)  # fmt: skip
LOWEST, HIGHEST = ("in_min_bps", "out_min_bps"), ("in_max_bps", "out_max_bps")
COLUMNS = (*SUMMED, *LOWEST, *HIGHEST, "flags")
"""What every row of sums holds."""

SPANS = f"(flags & {int(Flag.BRIDGED)}) <> 0"
RATES = {way: f"CASE WHEN NOT {SPANS} THEN {sql_bits_per_second(f'{way}_octets')} END" for way in ("in", "out")}
READING = {
    **{name: name for name in ("in_packets", "out_packets", "in_unicast", "out_unicast")},
    **{name: name for name in ("in_errors", "out_errors", "in_discards", "out_discards", "flags")},
    **{f"{way}_octets": f"CASE WHEN {SPANS} THEN 0 ELSE {way}_octets END" for way in ("in", "out")},
    **{f"bridged_{way}_octets": f"CASE WHEN {SPANS} THEN {way}_octets ELSE 0 END" for way in ("in", "out")},
    "elapsed_ms": f"CASE WHEN {SPANS} THEN 0 ELSE elapsed_ms END",
    "bridged_ms": f"CASE WHEN {SPANS} THEN elapsed_ms ELSE 0 END",
    "readings": "1",
    "up_readings": "CASE WHEN oper = 1 THEN 1 ELSE 0 END",
    "void_readings": f"CASE WHEN (flags & {int(VOID)}) <> 0 THEN 1 ELSE 0 END",
    **{f"{way}_{end}_bps": RATES[way] for way in ("in", "out") for end in ("min", "max")},
}
"""Each column of a row of sums, as one reading alone would fill it."""


def summed(name: str, what: str) -> str:
    """A column of a row of sums, from those of the rows beneath."""
    if name in LOWEST:
        return f"min({what})"
    if name in HIGHEST:
        return f"max({what})"
    # Beyond 64 bits no line counts; without the bound one absurd reading would end the sums of all interfaces.
    return f"bit_or({what})" if name == "flags" else f"least(sum({what}), {MOST})"


def _statement(table: str, source: str, begins: str, ends: tuple[str, str], columns: dict[str, str], only: bool) -> str:
    """Sum the rows of ``source`` between two times up into ``table``."""
    sums = ", ".join(summed(name, columns[name]) for name in COLUMNS)
    renewed = ", ".join(f"{name} = excluded.{name}" for name in COLUMNS)
    mine = f"AND {bulk.AMONG}" if only else ""
    return f"""INSERT INTO {table} (interface_id, at, {", ".join(COLUMNS)})
        SELECT interface_id, {begins}, {sums} FROM {source}
        WHERE at {ends[0]} %(start)s AND at {ends[1]} %(end)s {mine} GROUP BY 1, 2
        ON CONFLICT (interface_id, at) DO UPDATE SET {renewed}"""


SAME = {name: name for name in COLUMNS}
BEGINS_FIVE = "date_bin('5 minutes', at - interval '1 microsecond', '2000-01-01T00:00:00Z')"


def roll_five_minutes(start: datetime, end: datetime, source: str = READINGS, only: Sequence[int] | None = None) -> int:
    """Sum up whole five minutes from readings; a reading belongs to those that it ends in. Returns the rows written."""
    shape = "readings_fiveminutes", source, BEGINS_FIVE, (">", "<="), READING
    # Hour by hour, the sums of many interfaces find room in memory; a table without an index is rather read once.
    step = HOUR if source == READINGS else end - start
    written = 0
    while start < end:
        written += _roll(*shape, start, min(start + step, end), only)
        start += step
    return written


def roll_hours(start: datetime, end: datetime, only: Sequence[int] | None = None) -> int:
    """Sum up whole hours from their five minutes."""
    begins = "date_trunc('hour', at, 'UTC')"
    return _roll("readings_hour", "readings_fiveminutes", begins, (">=", "<"), SAME, start, end, only)


def _roll(
    table: str, source: str, begins: str, ends: tuple[str, str], columns: dict[str, str],
    start: datetime, end: datetime, only: Sequence[int] | None,
) -> int:  # fmt: skip
    with connection.cursor() as cursor:
        values: dict[str, Any] = {"start": start, "end": end, "only": list(only or ())}
        cursor.execute(_statement(table, source, begins, ends, columns, only is not None), values)
        return int(cursor.rowcount)


PARTS = """INSERT INTO readings_{subject}hour ({subject}_id, at, total, lowest, highest, readings)
    SELECT {subject}_id, date_trunc('hour', at - interval '1 microsecond', 'UTC'), sum({value}), min({value}), max({value}), count(*)
    FROM readings_{subject}reading WHERE at > %(start)s AND at <= %(end)s GROUP BY 1, 2
    ON CONFLICT ({subject}_id, at) DO UPDATE SET total = excluded.total, lowest = excluded.lowest,
        highest = excluded.highest, readings = excluded.readings"""


def roll_parts(start: datetime, end: datetime) -> None:
    """Sum up whole hours of components and of polls."""
    with connection.cursor() as cursor:
        for subject, value in (("component", "value"), ("device", "rtt_ms")):
            cursor.execute(PARTS.format(subject=subject, value=value), {"start": start, "end": end})


MEANS_OF_A_DAY = """SELECT interface_id, date_part('epoch', at) + 300, elapsed_ms, in_octets, out_octets
    FROM readings_fiveminutes WHERE at >= %(start)s AND at < %(end)s AND interface_id BETWEEN %(first)s AND %(last)s"""
MEANS_COLUMNS = [("interface", "i8"), ("at", "f8"), ("elapsed_ms", "i8"), ("in", "i8"), ("out", "i8")]


def roll_day(day: datetime, only: Sequence[int] | None = None) -> int:
    """Sum up a day (UTC) from its hours, with the five-minute means of the day and their 95th percentile."""
    values: dict[str, Any] = {"start": day, "end": day + DAY, "only": list(only or ())}
    begins = "date_trunc('day', at, 'UTC')"
    with connection.cursor() as cursor:
        cursor.execute(_statement("readings_day", "readings_hour", begins, (">=", "<"), SAME, only is not None), values)
        written = int(cursor.rowcount)
        mine = f"AND {bulk.AMONG}" if only is not None else ""
        cursor.execute(f"SELECT interface_id FROM readings_day WHERE at = %(start)s {mine} ORDER BY 1", values)
        ids = [int(row[0]) for row in cursor.fetchall()]
        for first in range(0, len(ids), AT_ONCE):
            _keep_means(day, ids[first : first + AT_ONCE])
    return written


def _keep_means(day: datetime, ids: list[int]) -> None:
    values = {"start": day, "end": day + DAY, "first": ids[0], "last": ids[-1]}
    rows = bulk.fetch(MEANS_OF_A_DAY, values, MEANS_COLUMNS)
    encoded = []
    for interface, mine in bulk.groups(rows, "interface"):
        kept = []
        for way in ("in", "out"):
            means = percentiles.means(mine["at"], mine["elapsed_ms"], mine[way], day.timestamp(), percentiles.SLOTS)
            kept += [percentiles.percentile(means), percentiles.encode(means).astype("<u2").tobytes()]
        encoded.append((*kept, interface, day))
    with connection.cursor() as cursor:
        cursor.executemany(
            "UPDATE readings_day SET in_p95_bps = %s, in_means = %s, out_p95_bps = %s, out_means = %s"
            " WHERE interface_id = %s AND at = %s",
            encoded,
        )


def roll_all(start: datetime, end: datetime, source: str = READINGS, only: Sequence[int] | None = None) -> int:
    """Sum up the five minutes from start to end, and what hours and days they belong to as far as these lie before ``end``."""
    written = roll_five_minutes(start, end, source, only)
    first, last = hour_of(start), hour_of(end)
    if first < last:
        written += roll_hours(first, last, only)
        roll_parts(first, last)
    day = day_of(start)
    while day + DAY <= end:
        written += roll_day(day, only)
        day += DAY
    return written


def hour_of(moment: datetime) -> datetime:
    """The beginning of a moment's hour."""
    return moment.astimezone(UTC).replace(minute=0, second=0, microsecond=0)


def day_of(moment: datetime) -> datetime:
    """The beginning of a moment's day (UTC)."""
    return hour_of(moment).replace(hour=0)


def five_of(moment: datetime) -> datetime:
    """The beginning of a moment's five minutes."""
    hour = hour_of(moment)
    return hour + (moment - hour) // FIVE_MINUTES * FIVE_MINUTES


def note_late(at: NDArray[np.float64]) -> None:
    """Make the five minutes due that got readings after they had closed. ``at`` are the readings' times; in their transaction."""
    begins = np.unique(np.ceil(np.rint(at * 1e6) / 3e8) * 300 - 300)
    with connection.cursor() as cursor:
        cursor.execute(
            "INSERT INTO readings_due (at) SELECT late FROM unnest(%s::timestamptz[]) late"
            " WHERE late < (SELECT max(until) FROM readings_rolledup) ON CONFLICT DO NOTHING",
            [[datetime.fromtimestamp(each, UTC) for each in begins.tolist()]],
        )


def share_lock() -> None:
    """No time closes until the end of this transaction."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock_shared(%s)", [LOCK])


def close(now: datetime) -> None:
    """Make due what has closed since the last time."""
    until = five_of(now - GRACE)
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(%s)", [LOCK])
        known = RolledUp.objects.order_by("pk").first()
        if known is None:
            cursor.execute("SELECT min(at) FROM readings_reading")
            oldest = cursor.fetchone()[0]
            known = RolledUp(pk=1, until=five_of(oldest - timedelta(microseconds=1)) if oldest else until)
        if until > known.until:
            cursor.execute(
                "INSERT INTO readings_due (at) SELECT generate_series(%s::timestamptz, %s::timestamptz, interval '5 minutes')"
                " ON CONFLICT DO NOTHING",
                [known.until, until - FIVE_MINUTES],
            )
            known.until = until
        known.save()


def roll_up_due(now: datetime) -> int:
    """Sum up everything that is due, a day at a time. Returns the rows written."""
    close(now)
    written = 0
    while True:
        with transaction.atomic():
            rows = _roll_oldest_due()
        if rows is None:
            return written
        written += rows


def _roll_oldest_due() -> int | None:
    """Sum up what is due of the oldest day; None if nothing is."""
    first = Due.objects.select_for_update().order_by("at").first()
    if first is None:
        return None
    due = Due.objects.filter(at__gte=first.at, at__lt=day_of(first.at) + DAY)
    last = due.order_by("-at").first()
    until = RolledUp.objects.get().until
    if last is None:
        return None
    start, end = first.at, last.at + FIVE_MINUTES
    due.delete()
    written = roll_five_minutes(start, end)
    hours = hour_of(start), min(hour_of(end + HOUR - FIVE_MINUTES), hour_of(until))
    if hours[0] < hours[1]:
        written += roll_hours(*hours)
        roll_parts(*hours)
    if (day := day_of(start)) + DAY <= until:
        written += roll_day(day)
    return written


def rebuild(start: datetime, end: datetime) -> int:
    """Sum every day up anew that has readings. Returns the rows written.

    Raises
    ------
    Refusal
        if none has
    """
    with connection.cursor() as cursor:
        cursor.execute("SELECT min(at), max(at) FROM readings_reading")
        oldest, newest = cursor.fetchone()
    if oldest is None or newest <= start:
        raise Refusal("There are no readings of that time to sum up.")
    written, day, last = 0, max(day_of(start), day_of(oldest)), min(end, five_of(newest))
    while day < last:
        following = min(day + DAY, last)
        with transaction.atomic(), connection.cursor() as cursor:
            cursor.execute(
                "SELECT EXISTS (SELECT 1 FROM readings_reading WHERE at > %s AND at <= %s)", [day, following]
            )
            # Of a day without readings the sums are all there is.
            if cursor.fetchone()[0]:
                for table in ("readings_fiveminutes", "readings_hour", "readings_day"):
                    cursor.execute(f"DELETE FROM {table} WHERE at >= %s AND at < %s", [day, following])
                written += roll_all(day, following)
        day = following
    return written
