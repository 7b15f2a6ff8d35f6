"""What ports and devices were lately: their fastest speed, their duplex, those that are gone, and when devices started."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

from django.db import connection

from lumtar.core.labels import QUIET
from lumtar.core.negotiated import REMEMBERED_S
from lumtar.core.port_changes import GONE
from lumtar.domain.inventory.models import DeviceState, Interface, InterfaceDuplex
from lumtar.domain.logbook.models import Entry

DAY = timedelta(days=1)
"""For so long an interface that is not listed any more counts as gone; then that is how it is meant to be."""

Span = tuple[float, float]
"""Seconds of the epoch from and until which something was so."""


def gone(devices: Sequence[int], now: datetime) -> dict[int, list[tuple[str, float]]]:
    """By device, the interfaces that it stopped to list within the last day, and when; without those that are no news."""
    rows = Interface.objects.filter(device_id__in=devices, gone_at__gt=now - DAY).exclude(role__in=QUIET)
    found: dict[int, list[tuple[str, float]]] = defaultdict(list)
    for device, label, at in rows.order_by("gone_at", "label").values_list("device_id", "label", "gone_at"):
        if at is not None:
            found[device].append((label, at.timestamp()))
    return found


def fastest(devices: Sequence[int], now: datetime) -> dict[int, tuple[float, float]]:
    """By interface, the fastest speed that it had within the last 30 days (bits per second), and until when (seconds of the epoch)."""
    with connection.cursor() as cursor:
        cursor.execute(
            """SELECT DISTINCT ON (interface_id) interface_id, port_bps::float8, date_part('epoch', until)
            FROM (
                SELECT s.interface_id, s.port_bps,
                    coalesce(lead(s.since) OVER (PARTITION BY s.interface_id ORDER BY s.since), %(now)s) AS until
                FROM inventory_interfacespeed s JOIN inventory_interface i ON i.id = s.interface_id
                WHERE i.device_id = ANY(%(devices)s) AND i.gone_at IS NULL
            ) spans WHERE until > %(since)s AND port_bps > 0 ORDER BY interface_id, port_bps DESC, until DESC""",
            {"devices": list(devices), "now": now, "since": now - timedelta(seconds=REMEMBERED_S)},
        )
        return {interface: (bps, until) for interface, bps, until in cursor.fetchall()}


def starts(devices: Sequence[int], end: datetime) -> dict[int, list[float]]:
    """By device, when it started (seconds of the epoch), in the order of time, as far as that is known."""
    found: dict[int, list[float]] = defaultdict(list)
    restarts = Entry.objects.filter(kind=Entry.Kind.RESTART, device_id__in=devices, at__lte=end)
    for device, at in restarts.order_by("at").values_list("device_id", "at"):
        found[device].append(at.timestamp())
    known = DeviceState.objects.filter(device_id__in=devices, started_at__lte=end)
    for device, started in known.values_list("device_id", "started_at"):
        if started is not None:
            found[device].append(started.timestamp())
    return {device: sorted(times) for device, times in found.items()}


def gone_spans(devices: Sequence[int], start: datetime, end: datetime) -> dict[int, list[Span]]:
    """By device, from when until when interfaces that are news were gone, each for a day at most."""
    with connection.cursor() as cursor:
        cursor.execute(
            """SELECT e.device_id, date_part('epoch', e.at), date_part('epoch', least(e.at + interval '1 day', (
                SELECT min(back.at) FROM logbook_entry back WHERE back.device_id = e.device_id
                    AND back.interface_id = e.interface_id AND back.kind = e.kind AND back.at > e.at), CASE WHEN i.gone_at IS NULL THEN (
                SELECT min(r.at) FROM readings_reading r WHERE r.interface_id = e.interface_id
                    AND r.at > e.at AND r.at < e.at + interval '1 day') END))
            FROM logbook_entry e JOIN inventory_interface i ON i.id = e.interface_id
            WHERE e.device_id = ANY(%(devices)s) AND e.kind = %(kind)s AND e.at > %(since)s AND e.at <= %(end)s
                AND i.role <> ALL(%(quiet)s) AND e.text LIKE %(gone)s ORDER BY e.at""",
            {
                "devices": list(devices),
                "kind": Entry.Kind.INVENTORY,
                "since": start - DAY,
                "end": end,
                "gone": f"%{GONE}",
                "quiet": sorted(QUIET),
            },
        )
        found: dict[int, list[Span]] = defaultdict(list)
        for device, since, until in cursor.fetchall():
            found[device].append((since, until))
    return found


def duplex_since(interfaces: Sequence[int]) -> Mapping[int, list[tuple[float, int]]]:
    """By interface, from when on (seconds of the epoch) it had which duplex (dot3StatsDuplexStatus), in the order of time."""
    found: dict[int, list[tuple[float, int]]] = defaultdict(list)
    rows = InterfaceDuplex.objects.filter(interface_id__in=interfaces).order_by("interface_id", "since")
    for interface, since, duplex in rows.values_list("interface_id", "since", "duplex"):
        found[interface].append((since.timestamp(), duplex))
    return found
