"""Devices, interfaces and components as resources."""

from collections.abc import Collection

from lumtar.domain.inventory.models import Component, Device, Group, Interface
from lumtar.domain.operation.resources import Kind, Named, register

DEVICE, INTERFACE, COMPONENT, GROUP = "device", "interface", "component", "group"


def _devices(ids: Collection[int]) -> dict[int, Named]:
    rows = Device.objects.filter(pk__in=ids).values_list("pk", "name", "site__name", "retired_at")
    return {pk: Named(name, site or "", pk, is_in_use=retired is None) for pk, name, site, retired in rows}


def interfaces_named(ids: Collection[int]) -> dict[int, Named]:
    """Interfaces with the names of their devices."""
    rows = Interface.objects.filter(pk__in=ids).values_list(
        "pk", "label", "device__name", "device__site__name", "device_id", "device__retired_at"
    )
    return {
        pk: Named(f"{device} {label}", site or "", number, pk, retired is None)
        for pk, label, device, site, number, retired in rows
    }


def _components(ids: Collection[int]) -> dict[int, Named]:
    rows = Component.objects.filter(pk__in=ids).values_list(
        "pk", "name", "device__name", "device__site__name", "device_id", "device__retired_at"
    )
    return {
        pk: Named(f"{device} {name}", site or "", number, is_in_use=retired is None)
        for pk, name, device, site, number, retired in rows
    }


def _groups(ids: Collection[int]) -> dict[int, Named]:
    return {pk: Named(f"group {name}") for pk, name in Group.objects.filter(pk__in=ids).values_list("pk", "name")}


register(Kind(DEVICE, "device", "/fleet/device/{id}", _devices))
register(Kind(INTERFACE, "interface", "/fleet/port/{id}", interfaces_named))
register(Kind(COMPONENT, "component", "/fleet/device/{device}", _components))
register(Kind(GROUP, "group", "/fleet?group={id}&list=total", _groups))
