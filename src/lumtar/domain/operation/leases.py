"""Sharing the devices out among collectors, so that each is polled by one of them and never by two.

Devices lie in shares, by their number. A collector holds shares for some seconds and renews them; one that is dead, hangs or
is cut off loses them, and another takes them over with a higher fence. What is stored is checked against the fence in the
same transaction, so a late write of the former holder changes nothing. All times here are the database's own.
"""

import math
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from django.db import connection, transaction

from lumtar.domain.operation.services import be_durable

SHARES = 256
GOLDEN = 2_654_435_769
"""2**32 divided by the golden ratio."""
LEASE_S = 8.0
"""Seconds that a share is held for without being renewed."""
RENEW_S = 2.0
"""Seconds between renewals."""
LOCK = 7_402_317
"""Who takes or gives shares holds this advisory lock: fair parts are computed one after the other."""


@dataclass(frozen=True, slots=True)
class Taken:
    """A share that was taken over: from whom, and until when that one had held it for sure (None if nobody did)."""

    number: int
    fence: int
    was: str
    renewed_at: datetime | None


@dataclass(frozen=True, slots=True)
class Standing:
    """What a collector holds now: the fence of each share; what it took just now; what it should give to others."""

    held: dict[int, int]
    taken: list[Taken]
    surplus: list[int]


def share_of(device: int) -> int:
    """The share that a device lies in: multiples of the golden ratio spread numbers that follow one another evenly."""
    return (device * GOLDEN & 0xFFFFFFFF) >> 24


@transaction.atomic
def renew(run: UUID, name: str, may_take_over: bool) -> Standing:
    """Go on holding what is held, and take what is free up to a fair part.

    Parameters
    ----------
    run : this collector's run; a second instance with the same name is another run, and shares the devices
    may_take_over : also take shares whose holder has not renewed them. Whoever was itself without the database a moment ago
        should not: the others are about to renew theirs.
    """
    be_durable()
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(%s)", [LOCK])
        cursor.execute(
            "INSERT INTO operation_share (number, fence, holder_name) SELECT n, 0, '' FROM generate_series(0, %s) n"
            " WHERE (SELECT count(*) FROM operation_share) < %s ON CONFLICT DO NOTHING",
            [SHARES - 1, SHARES],
        )
        cursor.execute(
            "INSERT INTO operation_seat (run, name, until) VALUES (%s, %s, clock_timestamp() + %s * interval '1 second')"
            " ON CONFLICT (run) DO UPDATE SET until = excluded.until",
            [run, name, LEASE_S],
        )
        cursor.execute(
            "UPDATE operation_share SET until = clock_timestamp() + %s * interval '1 second' WHERE holder = %s"
            " RETURNING number, fence",
            [LEASE_S, run],
        )
        held = {int(number): int(fence) for number, fence in cursor.fetchall()}
        cursor.execute("DELETE FROM operation_seat WHERE until < clock_timestamp() - interval '1 minute'")
        cursor.execute("SELECT count(*) FROM operation_seat WHERE until >= clock_timestamp()")
        fair = math.ceil(SHARES / max(1, int(cursor.fetchone()[0])))
        taken = _take(run, name, fair - len(held), may_take_over) if len(held) < fair else []
    held |= {each.number: each.fence for each in taken}
    surplus = sorted(held)[fair:] if len(held) > fair else []
    return Standing(held, taken, surplus)


def _take(run: UUID, name: str, most: int, may_take_over: bool) -> list[Taken]:
    free = "holder IS NULL" + (" OR until < clock_timestamp()" if may_take_over else "")
    with connection.cursor() as cursor:
        cursor.execute(
            f"""WITH wanted AS (SELECT number, holder_name AS was, until FROM operation_share WHERE {free}
                ORDER BY number LIMIT %(most)s FOR UPDATE)
            UPDATE operation_share s SET fence = s.fence + 1, holder = %(run)s, holder_name = %(name)s,
                until = clock_timestamp() + %(lease)s * interval '1 second'
            FROM wanted WHERE s.number = wanted.number
            RETURNING s.number, s.fence, wanted.was, wanted.until - %(lease)s * interval '1 second'""",
            {"most": most, "run": run, "name": name, "lease": LEASE_S},
        )
        return [Taken(*row) for row in cursor.fetchall()]


@transaction.atomic
def give_up(run: UUID, numbers: Collection[int] | None = None) -> None:
    """Let others have some shares at once, or all of them and the seat. What they held is stored by now."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(%s)", [LOCK])
        mine = "holder = %(run)s" + (" AND number = ANY(%(numbers)s)" if numbers is not None else "")
        cursor.execute(
            f"UPDATE operation_share SET holder = NULL, until = clock_timestamp() + %(lease)s * interval '1 second' WHERE {mine}",
            {"run": run, "numbers": list(numbers or ()), "lease": LEASE_S},
        )
        if numbers is None:
            cursor.execute("DELETE FROM operation_seat WHERE run = %s", [run])


def lost(fences: Mapping[int, int]) -> set[int]:
    """Those of these shares that are held under another fence now.

    Call it in the transaction that stores: a share cannot change hands until its end, while renewing it goes on. That is what
    FOR KEY SHARE does, since the fence belongs to a unique index and the time of the lease does not.
    """
    if not fences:
        return set()
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT number, fence FROM operation_share WHERE number = ANY(%s) ORDER BY number FOR KEY SHARE",
            [list(fences)],
        )
        now = {int(number): int(fence) for number, fence in cursor.fetchall()}
    return {number for number, fence in fences.items() if now.get(number) != fence}
