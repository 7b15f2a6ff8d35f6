"""Loss of power: devices that said that they were losing it, and sites that fell silent as a whole."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import connection

from lumtar.core.units import counted, duration
from lumtar.domain.alarms.models import Alarm, LastGasp
from lumtar.domain.alarms.over_links import UNREACHABLE

WITHIN_S = 120
"""So close together the devices of a site fall silent if it is for one reason: each is noticed a poll or two later."""
FEWEST = 2
BEFORE = timedelta(minutes=10)
"""A device that is silent for lack of power has said so at most that long before it was noticed."""


def note_last_gasps(devices: Mapping[int, datetime]) -> None:
    """Devices said at these times that they were losing their power."""
    LastGasp.objects.bulk_create(
        [LastGasp(device_id=device, at=at) for device, at in devices.items()],
        update_conflicts=True,
        unique_fields=["device"],
        update_fields=["at"],
    )


@dataclass(frozen=True, slots=True)
class DarkSite:
    """A site all of whose devices fell silent within a short time; ``gasped`` of them said that they were losing their power."""

    name: str
    devices: int
    gasped: int = 0

    @property
    def reading(self) -> str:
        """What that looks like."""
        return "its power is gone" if self.gasped else "it looks like a loss of power"

    def sentence(self) -> str:
        """What that means."""
        all_of = counted(self.devices, "device").lower()
        fell = f"All {all_of} of {self.name} fell silent within two minutes"
        if self.gasped:
            return f"{fell}, and {self.gasped} of them said that they were losing their power: it is gone there"
        return f"{fell}: it looks like a loss of power there, or of everything that leads there"


SQL = """SELECT d.id, s.name, whole.devices, whole.gasped FROM inventory_device d JOIN inventory_site s ON s.id = d.site_id
    JOIN (
        SELECT d.site_id, count(*) AS devices, count(g.device_id) AS gasped FROM inventory_device d
        LEFT JOIN alarms_alarm a ON a.device_id = d.id AND a.type = %(type)s AND NOT a.is_cleared
        LEFT JOIN alarms_lastgasp g ON g.device_id = d.id AND g.at > a.raised_at - %(before)s * interval '1 second'
        WHERE d.enabled AND d.retired_at IS NULL AND d.site_id IS NOT NULL
        GROUP BY d.site_id
        HAVING count(*) >= %(fewest)s AND count(*) = count(a.id)
            AND max(a.raised_at) - min(a.raised_at) <= %(within)s * interval '1 second'
    ) whole ON whole.site_id = d.site_id
    WHERE d.enabled AND d.retired_at IS NULL"""


def dark_sites() -> dict[int, DarkSite]:
    """By device, the site that it is in, if all of that fell silent at once."""
    with connection.cursor() as cursor:
        cursor.execute(
            SQL, {"type": UNREACHABLE, "fewest": FEWEST, "within": WITHIN_S, "before": BEFORE.total_seconds()}
        )
        return {device: DarkSite(name, devices, gasped) for device, name, devices, gasped in cursor.fetchall()}


def notes(devices: Collection[int]) -> dict[int, str]:
    """What is to be told beside the alarms of devices that do not answer, by device; nothing of most."""
    if not devices:
        return {}
    dark = dark_sites()
    found = {device: dark[device].sentence() for device in devices if device in dark}
    silent = Alarm.objects.filter(type=UNREACHABLE, is_cleared=False, device__in=devices)
    raised = dict(silent.values_list("device_id", "raised_at"))
    for device, at in LastGasp.objects.filter(device__in=raised).values_list("device_id", "at"):
        if device not in found and at > raised[device] - BEFORE:
            before = (raised[device] - at).total_seconds()
            when = f"{duration(before)} before this was noticed" if before >= 1 else "as this was noticed"
            found[device] = f"It said {when} that it was losing its power"
    return found


def note_of(type: str, device: int | None) -> str:
    """What is to be told beside the alarm of a device that does not answer; nothing of others."""
    return notes([device]).get(device, "") if type == UNREACHABLE and device is not None else ""
