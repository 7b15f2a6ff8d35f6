"""Watched traffic: selections that rules are about, and what was seen in each for the first time."""

from collections.abc import Mapping
from datetime import datetime, timedelta

from django.db import connection, transaction
from django.utils import timezone

from lumtar.core.flows.lookups import PrefixRanges
from lumtar.core.refusal import Refusal
from lumtar.domain.flows import prefix_tables, queries
from lumtar.domain.flows.models import FirstSeen, WatchedTraffic
from lumtar.domain.flows.queries import IN, OUT, Asked
from lumtar.domain.inventory.models import Site
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce

NUMBERS = ("interface", "device", "application", "port", "protocol", "dscp", "src_site", "dst_site")
TEXTS = ("sender", "receiver", "address")
WAYS = {"in": IN, "out": OUT}
FAR = {name: by for by, name in prefix_tables.FILTERS.items()}
MOST = 200
MOST_SEEN = 20_000
"""Senders of watched traffic that are remembered; of more none is called new."""
LEARNT = timedelta(days=7)
"""What was seen so long before it began to be watched is not new."""
SETTLES = timedelta(hours=24)
"""After that nothing is called new for so long, since a day has not been seen yet."""


def asked_of(filters: Mapping[str, str]) -> Asked:
    """A question from filters by their names, as the address of a screen has them.

    Raises
    ------
    Refusal
    """
    values: dict[str, object] = {}
    within: tuple[PrefixRanges, ...] = ()
    for name, text in filters.items():
        if name in NUMBERS:
            try:
                values[name] = int(text)
            except ValueError as error:
                raise Refusal(f"{name} is a number, not {str(text)[:40]}.", name) from error
        elif name in TEXTS:
            values[name] = str(text)
        elif name == "site":
            values["site"] = Site.objects.filter(name=text).values_list("pk", flat=True).first()
            if values["site"] is None:
                raise Refusal(f"There is no site {str(text)[:60]}.", "site")
        elif name == "way":
            if text not in WAYS:
                raise Refusal("The way is in or out.", "way")
            values["way"] = WAYS[text]
        elif by := FAR.get(name):
            within = (*within, prefix_tables.ranges(by, str(text)))
            values["within"] = within
        else:
            raise Refusal(f"Traffic has no filter {str(name)[:40]}.", "filters")
    return Asked(**values)  # type: ignore[arg-type]


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
    queries.check(asked)
    if WatchedTraffic.objects.filter(name=name).exists():
        raise Refusal(f"There is watched traffic called {name} already.", "name")
    if WatchedTraffic.objects.count() >= MOST:
        raise Refusal(f"There are {MOST} kinds of watched traffic; end one of them first.")
    made = WatchedTraffic.objects.create(name=name, filters={key: str(value) for key, value in filters.items()})
    now = timezone.now()
    _remember(made, queries.keys(asked, now - LEARNT, now), made.since - LEARNT)
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


def note_seen(row: WatchedTraffic, asked: Asked, start: datetime, end: datetime) -> None:
    """Remember what was seen in a time."""
    _remember(row, queries.keys(asked, start, end), end)


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
