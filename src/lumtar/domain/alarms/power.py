"""Sites that fell silent as a whole: the mark of a loss of power there."""

from dataclasses import dataclass

from django.db import connection

from lumtar.core.units import counted
from lumtar.domain.alarms.over_links import UNREACHABLE

WITHIN_S = 120
"""So close together the devices of a site fall silent if it is for one reason: each is noticed a poll or two later."""
FEWEST = 2


@dataclass(frozen=True, slots=True)
class DarkSite:
    """A site all of whose devices fell silent within a short time."""

    name: str
    devices: int

    def sentence(self) -> str:
        """What that means."""
        all_of = counted(self.devices, "device").lower()
        return (
            f"All {all_of} of {self.name} fell silent within two minutes:"
            " it looks like a loss of power there, or of everything that leads there"
        )


SQL = """SELECT d.id, s.name, whole.devices FROM inventory_device d JOIN inventory_site s ON s.id = d.site_id
    JOIN (
        SELECT d.site_id, count(*) AS devices FROM inventory_device d
        LEFT JOIN alarms_alarm a ON a.device_id = d.id AND a.type = %(type)s AND NOT a.is_cleared
        WHERE d.enabled AND d.retired_at IS NULL AND d.site_id IS NOT NULL
        GROUP BY d.site_id
        HAVING count(*) >= %(fewest)s AND count(*) = count(a.id)
            AND max(a.raised_at) - min(a.raised_at) <= %(within)s * interval '1 second'
    ) whole ON whole.site_id = d.site_id
    WHERE d.enabled AND d.retired_at IS NULL"""


def dark_sites() -> dict[int, DarkSite]:
    """By device, the site that it is in, if all of that fell silent at once."""
    with connection.cursor() as cursor:
        cursor.execute(SQL, {"type": UNREACHABLE, "fewest": FEWEST, "within": WITHIN_S})
        return {device: DarkSite(name, devices) for device, name, devices in cursor.fetchall()}


def note_of(type: str, device: int | None) -> str:
    """What is to be told beside the alarm of a device that does not answer; nothing of others."""
    if type != UNREACHABLE or device is None:
        return ""
    dark = dark_sites().get(device)
    return dark.sentence() if dark else ""
