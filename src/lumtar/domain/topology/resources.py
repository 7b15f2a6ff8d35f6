"""Links and bridges as resources."""

from collections.abc import Collection

from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.operation.resources import Kind, Named, register
from lumtar.domain.topology.models import Neighbour

LINK, BRIDGE = "link", "bridge"


def _links(ids: Collection[int]) -> dict[int, Named]:
    """A link is known by one of its ports; what is at the other end is told beside it as far as it is known."""
    rows = Interface.objects.filter(pk__in=ids).values_list(
        "pk", "label", "device__name", "device__site__name", "device_id", "device__retired_at"
    )
    seen = Neighbour.objects.filter(interface__in=ids).exclude(to_device=None).order_by("since")
    beyond = {
        port: f" – {device} {label or ''}".rstrip()
        for port, device, label in seen.values_list("interface_id", "to_device__name", "to_interface__label")
    }
    return {
        pk: Named(f"{device} {label}{beyond.get(pk, '')}", site or "", number, pk, retired is None)
        for pk, label, device, site, number, retired in rows
    }


def _bridges(ids: Collection[int]) -> dict[int, Named]:
    rows = Device.objects.filter(pk__in=ids).values_list("pk", "name", "site__name", "retired_at")
    return {pk: Named(name, site or "", pk, is_in_use=retired is None) for pk, name, site, retired in rows}


register(Kind(LINK, "link", "/fleet/port/{id}", _links))
register(Kind(BRIDGE, "bridge", "/fleet/device/{id}", _bridges))
