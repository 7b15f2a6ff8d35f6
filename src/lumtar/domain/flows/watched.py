"""Watched traffic: selections that rules are about, and what was seen in each for the first time."""

from collections.abc import Mapping
from datetime import datetime, timedelta

from django.db import connection, transaction

from lumtar.core.refusal import Refusal
from lumtar.domain.flows import queries
from lumtar.domain.flows.asking import asked_of, conditions
from lumtar.domain.flows.models import FirstSeen, WatchedTraffic
from lumtar.domain.flows.store import complete_until
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce

MOST = 200
MOST_SEEN = 20_000
"""Senders of watched traffic that are remembered; of more none is called new."""
LEARNT = timedelta(days=7)
"""What was seen so long before it began to be watched is not new."""
SETTLES = timedelta(hours=24)
"""After that nothing is called new for so long, since a day has not been seen yet."""


@transaction.atomic
def watch(name: str, filters: Mapping[str, str], by: str) -> WatchedTraffic:
    """Watch traffic from now on.

    Raises
    ------
    Refusal
    """
    name = " ".join(name.split())
    if not 1 <= len(name) <= 120:
        raise Refusal("Watched traffic needs a name of up to 120 letters.", "name")
    asked = asked_of(filters)
    conditions(asked, {})
    if WatchedTraffic.objects.filter(name=name).exists():
        raise Refusal(f"There is watched traffic called {name} already.", "name")
    if WatchedTraffic.objects.count() >= MOST:
        raise Refusal(f"There are {MOST} kinds of watched traffic; end one of them first.")
    made = WatchedTraffic.objects.create(name=name, filters={key: str(value) for key, value in filters.items()})
    _remember(made, queries.keys(asked, made.since - LEARNT, made.since), made.since - LEARNT)
    note_action(f"traffic {name} is watched", by)
    announce("flows")
    return made


@transaction.atomic
def end(pk: int, by: str) -> None:
    """Watch it no longer; rules about it have one subject less.

    Raises
    ------
    WatchedTraffic.DoesNotExist
    """
    row = WatchedTraffic.objects.select_for_update().get(pk=pk)
    row.delete()
    note_action(f"traffic {row.name} is not watched any more", by)
    announce("flows")


def note_seen(now: datetime) -> None:
    """Note what was seen for the first time in watched traffic since the last time, as far as it is complete.

    Whether or not a rule asks for it: one that is made later must not take all of it for new.
    """
    until = complete_until(now)
    for row in WatchedTraffic.objects.filter(seen_until__lt=until):
        try:
            found = queries.keys(asked_of(row.filters), row.seen_until, until)
        except Refusal:
            # What it is about is gone, or is called something else: nothing can be seen in it.
            continue
        with transaction.atomic():
            _remember(row, found, until)
            WatchedTraffic.objects.filter(pk=row.pk).update(seen_until=until)


def _remember(row: WatchedTraffic, keys: Mapping[int, list[tuple[int, int]]], at: datetime) -> None:
    for kind, seen in keys.items():
        known = FirstSeen.objects.filter(traffic=row, kind=kind).count()
        room = max(0, MOST_SEEN - known)
        with connection.cursor() as cursor:
            # Nearly all of them are known; they cost no sequence number and no lock this way.
            cursor.execute(
                """INSERT INTO flows_firstseen (traffic_id, kind, hi, lo, first_at)
                SELECT %(traffic)s, %(kind)s, new.hi, new.lo, %(at)s FROM unnest(%(hi)s::bigint[], %(lo)s::bigint[]) AS new (hi, lo)
                WHERE NOT EXISTS (SELECT 1 FROM flows_firstseen f WHERE f.traffic_id = %(traffic)s AND f.kind = %(kind)s
                    AND f.hi = new.hi AND f.lo = new.lo) LIMIT %(room)s ON CONFLICT DO NOTHING""",
                {
                    "traffic": row.pk, "kind": kind, "hi": [hi for hi, _ in seen], "lo": [lo for _, lo in seen], "at": at,
                    "room": room,
                },
            )  # fmt: skip


def new_ones(now: datetime, within: timedelta = timedelta(hours=1)) -> dict[tuple[int, int], list[tuple[int, int]]]:
    """What was seen for the first time lately, by watched traffic and kind; nothing of those that are not watched for a day yet."""
    rows = FirstSeen.objects.filter(first_at__gt=now - within, traffic__since__lt=now - SETTLES)
    found: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for traffic, kind, hi, lo in rows.order_by("first_at").values_list("traffic_id", "kind", "hi", "lo")[:5000]:
        found.setdefault((traffic, kind), []).append((hi, lo))
    return found
