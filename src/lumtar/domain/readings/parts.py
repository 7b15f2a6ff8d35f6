"""Components and polls of a device over time."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import connection

from lumtar.core.levels import step_for

Key = tuple[int | None, str, str, str]
"""Component, kind, name, unit."""


@dataclass(slots=True)
class PartSeries:
    """Means of one component over steps; None where nothing was read. The round trip has no component."""

    component_id: int | None
    kind: str
    name: str
    unit: str
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


def read(device: int, start: datetime, end: datetime, points: int) -> list[PartSeries]:
    """Every component of a device, and the round trip of its polls."""
    step = step_for((end - start).total_seconds(), points, 60)
    first = int(start.timestamp() // step) * step
    count = int((end.timestamp() - first) // step) + 1
    at = [first + step * (number + 1) for number in range(count)]
    values: dict[str, Any] = {"device": device, "start": start, "end": end, "first": first, "step": step}
    place = "floor((extract(epoch FROM r.at)::float8 - %(first)s) / %(step)s)::int"
    found: dict[Key, list[float | None]] = {}
    with connection.cursor() as cursor:
        cursor.execute(
            f"""SELECT c.id, c.kind, c.name, c.unit, {place}, avg(r.value) FROM inventory_component c
            JOIN readings_componentreading r ON r.component_id = c.id AND r.at > %(start)s AND r.at <= %(end)s
            WHERE c.device_id = %(device)s GROUP BY 1, 2, 3, 4, 5 ORDER BY c.kind, c.id""",
            values,
        )
        rows: list[tuple[Key, int, float]] = [
            ((int(row[0]), row[1], row[2], row[3]), row[4], row[5]) for row in cursor.fetchall()
        ]
        cursor.execute(
            f"SELECT {place}, avg(r.rtt_ms) FROM readings_devicereading r"
            " WHERE r.device_id = %(device)s AND r.at > %(start)s AND r.at <= %(end)s GROUP BY 1",
            values,
        )
        rows += [((None, "rtt", "Round trip", "ms"), row[0], row[1]) for row in cursor.fetchall()]
    for key, where, value in rows:
        column = found.setdefault(key, [None] * count)
        if 0 <= where < count:
            column[where] = round(float(value), 2)
    return [PartSeries(*key, step, at, column) for key, column in found.items()]
