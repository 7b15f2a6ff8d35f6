"""How much of what ports counted flows explain lately: of many ports at once."""

from collections import defaultdict
from collections.abc import Collection
from datetime import datetime, timedelta
from typing import Any

from django.db import connection
from django.db.models import Max

from lumtar.domain.flows.store import MINUTES, complete_until
from lumtar.domain.inventory.models import Interface
from lumtar.domain.operation.models import Process

OVER = timedelta(minutes=10)
"""Polls and exports do not keep step with minutes."""
LEAST_OCTETS = 1_000_000
"""A port that carried less within that time is not looked at: some octets more or less are nothing."""
TOLD_WITHIN = timedelta(hours=1)
TELLING = f"SELECT DISTINCT interface_id FROM {MINUTES} WHERE at >= %s AND at < %s"
SHARES = f"""WITH counted AS (
        SELECT interface_id, way, sum(octets * share) AS octets, sum(share * elapsed_ms / 1000) AS seconds
        FROM readings_reading r
        CROSS JOIN LATERAL (SELECT greatest(0, date_part('epoch',
            least(at, %(end)s) - greatest(at - elapsed_ms * interval '1 ms', %(start)s)) * 1000 / elapsed_ms) AS share) part
        CROSS JOIN LATERAL (VALUES (0, in_octets), (1, out_octets)) ways (way, octets)
        WHERE at > %(start)s AND at <= %(end)s + interval '3 minutes' AND elapsed_ms > 0
            AND interface_id IN (SELECT unnest(%(ports)s::bigint[])) GROUP BY 1, 2
    ), told AS (
        SELECT interface_id, way, sum(octets)::float8 AS octets FROM {MINUTES}
        WHERE at >= %(start)s AND at < %(end)s AND interface_id IN (SELECT unnest(%(ports)s::bigint[])) GROUP BY 1, 2
    )
    SELECT interface_id, way, coalesce(told.octets, 0), counted.octets FROM counted LEFT JOIN told USING (interface_id, way)
    WHERE counted.octets > %(least)s AND counted.seconds > 0.9 * date_part('epoch', %(end)s::timestamptz - %(start)s::timestamptz)"""
"""Of ports that were counted nearly all of the time and carried something worth mentioning. A reading that reaches beyond the time counts with
the part of it that lies within."""


def telling(now: datetime) -> set[int]:
    """The ports by which flows went lately."""
    end = complete_until(now)
    with connection.cursor() as cursor:
        cursor.execute(TELLING, [end - TOLD_WITHIN, end])
        return {int(row[0]) for row in cursor.fetchall()}


def shares(ports: Collection[int], now: datetime) -> dict[tuple[int, int], tuple[float, float]]:
    """Octets that flows and counters told of, by port and way, over the last minutes that are complete."""
    end = complete_until(now)
    values: dict[str, Any] = {"start": end - OVER, "end": end, "ports": list(ports), "least": LEAST_OCTETS}
    with connection.cursor() as cursor:
        cursor.execute(SHARES, values)
        return {(port, way): (told, counted) for port, way, told, counted in cursor.fetchall()}


def received_since(now: datetime) -> datetime | None:
    """Since when all flow receivers have run: what was sent before says nothing of the exporters. None if none runs."""
    running = Process.objects.filter(kind="flows", stopped_at=None, beat_at__gt=now - OVER)
    newest: datetime | None = running.aggregate(Max("started_at"))["started_at__max"]
    return newest


def by_device(now: datetime) -> dict[int, float]:
    """Of all ports of a device together, per cent; of devices whose ports carried something."""
    told: defaultdict[int, float] = defaultdict(float)
    counted: defaultdict[int, float] = defaultdict(float)
    found = shares(telling(now), now)
    devices = dict(Interface.objects.filter(pk__in={port for port, _ in found}).values_list("pk", "device_id"))
    for (port, _), (of_flows, of_port) in found.items():
        if port in devices:
            told[devices[port]] += of_flows
            counted[devices[port]] += of_port
    return {device: 100 * told[device] / whole for device, whole in counted.items()}
