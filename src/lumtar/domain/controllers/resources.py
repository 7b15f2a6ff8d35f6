"""Controllers and what they tell of as resources."""

from collections.abc import Collection

from lumtar.core.measures.controllers import CONTROLLER, CONTROLLER_ITEM
from lumtar.domain.controllers.models import Controller, ControllerItem
from lumtar.domain.operation.resources import Kind, Named, register


def _controllers(ids: Collection[int]) -> dict[int, Named]:
    return {row.pk: Named(row.name, is_in_use=row.enabled) for row in Controller.objects.filter(pk__in=ids)}


def _items(ids: Collection[int]) -> dict[int, Named]:
    rows = ControllerItem.objects.filter(pk__in=ids).select_related("device__site", "controller")
    return {
        row.pk: Named(
            f"{row.kind} {row.name} ({row.controller})",
            row.device.site.name if row.device and row.device.site else "",
            row.device_id,
            row.interface_id,
            row.gone_at is None and row.controller.enabled,
        )
        for row in rows
    }


register(Kind(CONTROLLER, "controller", "/setup/controllers?show={id}", _controllers))
register(Kind(CONTROLLER_ITEM, "part of an overlay", "/setup/controllers?item={id}", _items))
