"""Who takes power over Ethernet at a time: the ports that deliver it, and what is plugged in there."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from django.db import connection
from django.utils import timezone

from lumtar.domain.inventory.scope import NATURAL, at_site, search
from lumtar.domain.reports import access_points
from lumtar.domain.topology import stations

STILL = timedelta(minutes=25)
"""States are stored when they change, and every ten minutes otherwise; after that long nobody knows."""
DELIVERS = 3
"""PethPsePortDetectionStatus (RFC 3621)."""
MOST = 2000


@dataclass(slots=True)
class PoweredPort:
    """A port that delivers power, and what is plugged in there as far as it is known: a neighbour, an access point, stations.

    ``macs`` come with the addresses of each.
    """

    device_id: int
    device: str
    site: str
    interface_id: int
    label: str
    neighbour: str
    access_point: str = ""
    macs: dict[str, list[str]] = field(default_factory=dict)


# RFC 3621 leaves the numbers of ports to the agent; by far most use those of the interfaces.
SQL = """SELECT d.id, d.name, coalesce(s.name, ''), i.id, i.label, i.neighbour
    FROM inventory_component c
    JOIN inventory_device d ON d.id = c.device_id AND d.retired_at IS NULL
    LEFT JOIN inventory_site s ON s.id = d.site_id
    JOIN inventory_interface i ON i.device_id = d.id AND i.gone_at IS NULL
        AND i.if_index::text = substring(c.index FROM '[0-9]+$')
    JOIN (SELECT DISTINCT ON (r.component_id) r.component_id, r.value FROM readings_componentreading r
            JOIN inventory_component c ON c.id = r.component_id AND c.kind = 'poe port'
            WHERE r.at > %(start)s AND r.at <= %(end)s ORDER BY r.component_id, r.at DESC) newest
        ON newest.component_id = c.id AND newest.value = %(delivers)s
    WHERE c.kind = 'poe port' AND c.gone_at IS NULL AND {where}
    ORDER BY d.name {natural}, i.if_index LIMIT %(limit)s"""


def find(
    past: datetime | None = None, *, site: str = "", device: int | None = None, words: str = ""
) -> list[PoweredPort]:
    """The ports that deliver power at a time; None is now."""
    end = past or timezone.now()
    given: dict[str, Any] = {"start": end - STILL, "end": end, "delivers": DELIVERS, "limit": MOST}
    where = ["TRUE"]
    if site:
        where.append(at_site(site, given))
    if device is not None:
        where.append("d.id = %(device)s")
        given["device"] = device
    search(words, ("d.name", "i.label", "i.neighbour"), where, given)
    with connection.cursor() as cursor:
        cursor.execute(SQL.format(where=" AND ".join(where), natural=NATURAL), given)
        found = {row[3]: PoweredPort(*row) for row in cursor.fetchall()}
    _name(found, past, end)
    return list(found.values())


def _name(found: Mapping[int, PoweredPort], past: datetime | None, at: datetime) -> None:
    """Add what is plugged in at ports."""
    rows = list(stations.there_at(at).filter(interface__in=found).values_list("interface_id", "mac"))
    addresses = stations.names_of([mac for _, mac in rows], at)
    for port, mac in rows:
        found[port].macs[mac] = addresses.get(mac, [])
    for row in access_points.find(past) if found else []:
        if row.plugged_in is not None and row.plugged_in.interface in found:
            found[row.plugged_in.interface].access_point = row.point.name
