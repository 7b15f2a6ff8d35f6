"""Members of controllers as devices: which ones are known, which may be added."""

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from datetime import datetime

from django.db import transaction
from django.db.models import Q

from lumtar.core.controllers import DEVICE
from lumtar.core.reach import is_address, may_be_sent
from lumtar.core.refusal import Refusal
from lumtar.domain.controllers.models import Controller, ControllerItem
from lumtar.domain.inventory.models import Device
from lumtar.domain.inventory.services import add_device
from lumtar.domain.operation.services import announce

LONGEST_NAME, LONGEST_SITE = 120, 80


def devices_of(items: Sequence[ControllerItem]) -> dict[str, Device]:
    """By key of a member, the device that it is: by its address, else by a serial number or a name that only one has."""
    signs = {name: {item.facts[name] for item in items if item.facts[name]} for name in ("address", "serial", "name")}
    candidates = Device.objects.filter(
        Q(address__in=signs["address"]) | Q(serial__in=signs["serial"]) | Q(sys_name__in=signs["name"]),
        retired_at=None,
    )
    known = list(candidates)
    by = {
        "address": {device.address: device for device in known},
        "serial": _alone(known, "serial"),
        "sys_name": _alone(known, "sys_name"),
    }
    found = {}
    for item in items:
        device = (
            by["address"].get(item.facts["address"])
            or by["serial"].get(item.facts["serial"])
            or by["sys_name"].get(item.facts["name"])
        )
        if device is not None:
            found[item.key] = device
    return found


def _alone(devices: Collection[Device], sign: str) -> Mapping[str, Device]:
    """Devices by a sign that no other one has."""
    counted = Counter(getattr(device, sign) for device in devices)
    return {value: each for each in devices if (value := getattr(each, sign)) and counted[value] == 1}


def why_not(controller: Controller, item: ControllerItem) -> str:
    """Why a member cannot become a device; empty if it can."""
    address = item.facts["address"]
    if not is_address(address):
        return f"“{address[:60]}” is no address"
    if not may_be_sent(controller.allowed, address):
        return f"members of {controller} may not have the address {address}: allowed is {controller.allowed[:80] or 'none'}"  # fmt: skip
    if controller.credential is None:
        return "the controller has no credential by which its members are polled"
    return ""


def new_members(controller: Controller) -> list[ControllerItem]:
    """Members that are no devices."""
    items = controller.items.filter(kind=DEVICE.name, device=None, gone_at=None).select_related("controller__credential")  # fmt: skip
    return list(items.order_by("name"))


def add_new(controller: Controller, now: datetime, only: Collection[int] | None = None, by: str = "") -> list[Device]:
    """Add members that are no devices yet, all or some of them; why one cannot be added is kept with it."""
    added = []
    for item in new_members(controller):
        if only is not None and item.pk not in only:
            continue
        words = why_not(controller, item)
        if not words:
            try:
                with transaction.atomic():
                    item.device = add_device(
                        item.facts["address"],
                        port=controller.port,
                        name=item.name[:LONGEST_NAME],
                        site=item.facts["site"][:LONGEST_SITE],
                        credential=controller.credential,
                        by=by or f"controller {controller}"[:150],
                    )
                added.append(item.device)
            except Refusal as refusal:
                words = str(refusal)
        if words != item.words or item.device is not None:
            item.words = words[:300]
            item.save(update_fields=["device", "words"])
    if added:
        announce("controllers", [controller.pk])
    return added
