"""The few figures that say how a device is: shown where the pointer is on the map, and pinned beside cards."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import connection
from django.utils import timezone

STEP_S = 300
BACK = timedelta(hours=2)
STEPS = int(BACK.total_seconds()) // STEP_S
MOST_DEVICES = 40
SHOWN = {"processor": "processor", "memory": "memory", "poe share": "PoE", "sensor": "temperature"}
"""What is shown of a device, by kind of component, in this order; of several components of a kind the highest."""


@dataclass(slots=True)
class Figure:
    """A figure now, and over the last two hours, oldest first; None where nothing was read."""

    name: str
    unit: str
    value: float | None
    line: list[float | None]


SQL = """SELECT c.device_id, c.kind, max(c.unit), floor(extract(epoch FROM r.at) / %(step)s)::bigint AS slot, max(r.value)
    FROM inventory_component c JOIN readings_componentreading r ON r.component_id = c.id
    WHERE c.device_id = ANY(%(devices)s) AND c.gone_at IS NULL AND c.kind = ANY(%(kinds)s)
        AND (c.kind <> 'sensor' OR c.unit = '°C') AND r.at > %(start)s AND r.at <= %(end)s
    GROUP BY 1, 2, 4"""


def of_devices(devices: Collection[int], past: datetime | None) -> dict[int, list[Figure]]:
    """The figures of some devices, now or at a past time."""
    end = past or timezone.now()
    last = int(end.timestamp()) // STEP_S
    given: dict[str, Any] = {
        "devices": list(devices),
        "kinds": list(SHOWN),
        "step": STEP_S,
        "start": end - BACK,
        "end": end,
    }
    lines: dict[tuple[int, str], list[float | None]] = {}
    units: dict[str, str] = {}
    with connection.cursor() as cursor:
        cursor.execute(SQL, given)
        for device, kind, unit, slot, value in cursor.fetchall():
            line = lines.setdefault((device, kind), [None] * STEPS)
            if 0 <= (place := slot - last + STEPS - 1) < STEPS:
                line[place], units[kind] = round(float(value), 1), unit
    found: dict[int, list[Figure]] = {device: [] for device in devices}
    for (device, kind), line in sorted(lines.items(), key=lambda each: list(SHOWN).index(each[0][1])):
        # The current step may just have begun.
        value = next((each for each in (line[-1], line[-2]) if each is not None), None)
        found[device].append(Figure(SHOWN[kind], units.get(kind, ""), value, line))
    return found
