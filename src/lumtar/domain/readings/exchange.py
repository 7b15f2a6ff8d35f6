"""Readings and sums out of the store, in pieces, and readings into it."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection, transaction
from django.utils import timezone
from numpy.typing import NDArray

from lumtar.core import exchange
from lumtar.core.exchange import Imported
from lumtar.core.levels import SECONDS, Level
from lumtar.domain.inventory.models import Interface
from lumtar.domain.readings import bulk, partitions, retention, rollups, sums
from lumtar.domain.readings.rollups import COLUMNS
from lumtar.domain.readings.sums import RATES, STORED, TABLES

LOCK = rollups.LOCK + 1
"""Readings are brought in under this advisory lock."""

AT_ONCE = 200_000
"""About so many rows are fetched at once."""


def columns(level: Level) -> tuple[str, ...]:
    """What a row of a level holds beside its interface: ``at`` is the end of a reading or of a sum."""
    return exchange.READING if level == Level.READINGS else ("at", *COLUMNS)


def rows(
    level: Level, interfaces: Sequence[int], start: datetime, end: datetime
) -> Iterator[tuple[int, NDArray[np.void]]]:
    """The rows of each interface that end in (start, end], in the order of time; ``at`` in seconds of the epoch."""
    names, length = columns(level)[1:], SECONDS[level]
    kinds = sums.kinds_of(names)
    selected = ", ".join(f"coalesce({name}, 'NaN')" if name in RATES else f"{name}::bigint" for name in names)
    ends = "at + %(length)s" if length else "at"
    sql = f"""SELECT interface_id, date_part('epoch', {ends}), {selected} FROM {TABLES[level]}
        WHERE {bulk.AMONG} AND at > %(start)s AND at <= %(end)s"""
    each = max(1.0, (end - start).total_seconds() / (length or 60))
    step = max(1, int(AT_ONCE / each))
    shift = timedelta(seconds=length)
    for first in range(0, len(interfaces), step):
        values: dict[str, Any] = {
            "only": list(interfaces[first : first + step]), "start": start - shift, "end": end - shift, "length": shift,
        }  # fmt: skip
        for interface, mine in bulk.groups(bulk.fetch(sql, values, kinds), "interface"):
            yield interface, mine[np.argsort(mine["at"])]


def take(lines: Iterable[str]) -> tuple[Imported, int]:
    """Readings from CSV into the store, all or none; what is there already is replaced, sums follow within a minute.

    Returns
    -------
    what was understood with its problems, and the number of readings that were stored
    """
    now = timezone.now()
    oldest = retention.oldest_days(now)[Level.READINGS]
    ports = {
        (device, name): pk
        for pk, device, name in Interface.objects.filter(gone_at=None).values_list("pk", "device__name", "name")
    }
    imported = exchange.read_csv(lines, ports, datetime(oldest.year, oldest.month, oldest.day, tzinfo=UTC), now)
    if imported.problems or not imported.rows:
        return imported, 0
    # The last of several readings of one time counts.
    latest = {(number, at): values for number, at, values in imported.rows}
    numbers, at = (np.array(column) for column in zip(*latest, strict=True))
    with transaction.atomic():
        partitions.ensure(datetime.fromtimestamp(float(at.min()), UTC).date(), now.date())
        _store(numbers.astype(np.int64), at.astype(np.float64), np.array(list(latest.values()), np.int64))
    return imported, len(latest)


def _store(interfaces: NDArray[np.int64], at: NDArray[np.float64], values: NDArray[np.int64]) -> None:
    names = ("elapsed_ms", *exchange.COUNTS, "flags", "oper")
    rollups.share_lock()
    with connection.cursor() as cursor:
        # What is being written to has no key: two who bring the same readings take turns.
        cursor.execute("SELECT pg_advisory_xact_lock(%s)", [LOCK])
        cursor.execute("CREATE TEMP TABLE taken (LIKE readings_reading) ON COMMIT DROP")
        columns = [(name, STORED.get(name, "i8"), values[:, place]) for place, name in enumerate(names)]
        bulk.copy("taken", [("interface_id", "i8", interfaces), ("at", "at", at), *columns])
        listed = ", ".join(("interface_id", "at", *names))
        cursor.execute("ANALYZE taken")
        cursor.execute(
            "DELETE FROM readings_reading r USING taken t"
            " WHERE r.interface_id = t.interface_id AND r.at = t.at AND r.at >= %s AND r.at <= %s",
            [datetime.fromtimestamp(edge, UTC) for edge in (float(np.floor(at.min())), float(np.ceil(at.max())))],
        )
        cursor.execute(f"INSERT INTO readings_reading ({listed}) SELECT {listed} FROM taken")
        cursor.execute("DROP TABLE taken")
    rollups.note_late(at)
