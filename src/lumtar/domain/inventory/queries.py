"""What can be asked about devices and interfaces alone."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from django.db import connection

from lumtar.domain.inventory.models import Device


@dataclass(frozen=True, slots=True)
class PortName:
    """An interface with where it is."""

    id: int
    label: str
    name: str
    role: str
    device_id: int
    device: str
    site: str | None


def named(ids: list[int]) -> dict[int, PortName]:
    """Those of some interfaces that are there still."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT i.id, i.label, i.name, i.role, d.id, d.name, s.name FROM inventory_interface i"
            " JOIN inventory_device d ON d.id = i.device_id LEFT JOIN inventory_site s ON s.id = d.site_id"
            " WHERE i.id = ANY(%s) AND i.gone_at IS NULL AND d.retired_at IS NULL",
            [ids],
        )
        return {row[0]: PortName(*row) for row in cursor.fetchall()}


@dataclass(frozen=True, slots=True)
class Polled:
    """A port, whose it is, and how often it is polled."""

    pk: int
    device_id: int
    interval_s: int


def polled(interface: int) -> Polled | None:
    """Where a port is polled, if it is there."""
    sql = """SELECT i.id, d.id, d.interval_s FROM inventory_interface i JOIN inventory_device d ON d.id = i.device_id
        WHERE i.id = %s"""
    with connection.cursor() as cursor:
        cursor.execute(sql, [interface])
        row = cursor.fetchone()
    return Polled(*row) if row else None


def places(addresses: Iterable[str]) -> dict[tuple[str, int, str], str]:
    """Which of these addresses are those of devices: (address, port, way) -> name."""
    devices = Device.objects.filter(address__in=set(addresses)).values_list("address", "port", "way", "name")
    return {(address, port, way): name for address, port, way, name in devices}


def device_lines() -> Iterator[dict[str, Any]]:
    """Every device that is not retired with what people say of it, as a list of devices has it."""
    devices = Device.objects.filter(retired_at=None).select_related("site", "credential").prefetch_related("groups")
    for device in devices.order_by("name", "pk"):
        yield {
            "address": device.address,
            "port": device.port or 161,
            "name": device.name,
            "site": device.site.name if device.site else "",
            "groups": sorted(group.name for group in device.groups.all()),
            "tags": device.tags,
            "credential": device.credential.name if device.credential else "",
            "interval": device.interval_s,
            "way": device.way,
            "own": device.own,
        }
