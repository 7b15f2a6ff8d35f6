"""Components and polls of a device over time."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from django.db import connection
from django.utils import timezone

from lumtar.core.components import KINDS
from lumtar.core.discovery import STATE
from lumtar.core.levels import SECONDS, Level, cover, step_for
from lumtar.domain.readings import retention

Key = tuple[int | None, str, str, str]
"""Component, kind, name, unit."""


@dataclass(slots=True)
class ComponentSeries:
    """Means of one component over steps; None where nothing was read. The round trip has no component."""

    component_id: int | None
    kind: str
    name: str
    unit: str
    chart: str
    """Those with the same one are drawn together."""
    step_s: int
    at: list[int]
    value: list[float | None]


def newest(device: int, at: datetime | None) -> dict[int, float]:
    """The newest values of a device's components, within twenty minutes before a time."""
    sql = """
        SELECT DISTINCT ON (component_id) component_id, value FROM readings_componentreading
        WHERE component_id IN (SELECT id FROM inventory_component WHERE device_id = %(device)s) AND at > %(from)s AND at <= %(at)s
        ORDER BY component_id, at DESC"""
    until = at or datetime.now().astimezone()
    with connection.cursor() as cursor:
        cursor.execute(sql, {"device": device, "at": until, "from": until - timedelta(minutes=20)})
        return {int(component): float(value) for component, value in cursor.fetchall()}


FINE = """SELECT c.id, c.kind, c.name, c.unit, extract(epoch FROM r.at)::float8 AS ends, r.value AS total, 1 AS readings
    FROM inventory_component c JOIN readings_componentreading r ON r.component_id = c.id
    WHERE c.device_id = %(device)s AND c.unit <> %(state)s AND r.at > %(start)s AND r.at <= %(end)s
    UNION ALL SELECT NULL, 'rtt', 'Round trip', 'ms', extract(epoch FROM r.at)::float8, r.rtt_ms, 1
    FROM readings_devicereading r WHERE r.device_id = %(device)s AND r.at > %(start)s AND r.at <= %(end)s"""
HOURLY = """SELECT c.id, c.kind, c.name, c.unit, extract(epoch FROM r.at)::float8 + 3600 AS ends, r.total, r.readings
    FROM inventory_component c JOIN readings_componenthour r ON r.component_id = c.id
    WHERE c.device_id = %(device)s AND c.unit <> %(state)s AND r.at >= %(start)s AND r.at < %(end)s
    UNION ALL SELECT NULL, 'rtt', 'Round trip', 'ms', extract(epoch FROM r.at)::float8 + 3600, r.total, r.readings
    FROM readings_devicehour r WHERE r.device_id = %(device)s AND r.at >= %(start)s AND r.at < %(end)s"""


def _chart(kind: str, unit: str) -> str:
    return f"{KINDS[kind].chart if kind in KINDS else kind} {unit}"


def _place(item: tuple[Key, object]) -> tuple[int, int]:
    """Kinds in the order of their registry, then what belongs to none."""
    component, kind, *_ = item[0]
    order = list(KINDS)
    return order.index(kind) if kind in order else len(order), component or 0


def read(device: int, start: datetime, end: datetime, points: int) -> list[ComponentSeries]:
    """Every component of a device that has a quantity, and the round trip of its polls; long times from hourly sums."""
    step = step_for((end - start).total_seconds(), points, 60)
    # Parts have no sums over five minutes: hours, or readings.
    kept = [each for each in retention.kept(timezone.now()) if each.level in (Level.READINGS, Level.HOURS)]
    pieces = cover(start.timestamp(), end.timestamp(), step, kept)
    step = step_for(0, 1, max(step, *(SECONDS[piece.level] for piece in pieces), 0))
    first = int(start.timestamp() // step) * step
    count = int((end.timestamp() - first) // step) + 1
    at = [first + step * (number + 1) for number in range(count)]
    totals: dict[Key, list[float]] = {}
    readings: dict[Key, list[int]] = {}
    with connection.cursor() as cursor:
        for piece in pieces:
            source = FINE if piece.level == Level.READINGS else HOURLY
            cursor.execute(
                f"""SELECT id, kind, name, unit, ceil((ends - %(first)s) / %(step)s)::int - 1 AS place, sum(total), sum(readings)
                FROM ({source}) r GROUP BY 1, 2, 3, 4, 5 ORDER BY kind, id""",
                {
                    "device": device,
                    "state": STATE,
                    "start": datetime.fromtimestamp(piece.start, UTC),
                    "end": datetime.fromtimestamp(piece.end, UTC),
                    "first": first,
                    "step": step,
                },
            )
            for *key, place, total, number in cursor.fetchall():
                column = totals.setdefault(tuple(key), [0.0] * count)
                counts = readings.setdefault(tuple(key), [0] * count)
                if 0 <= place < count:
                    column[place] += total
                    counts[place] += number
    return [
        ComponentSeries(
            *key,
            _chart(key[1], key[3]),
            step,
            at,
            [round(total / number, 2) if number else None for total, number in zip(column, readings[key], strict=True)],
        )
        for key, column in sorted(totals.items(), key=_place)
    ]
