"""Putting alarms of controllers under what explains them: a silent device at an end, a port that is down beneath."""

from collections import defaultdict
from datetime import datetime

from lumtar.core.measures.controllers import CONTROLLER_ITEM
from lumtar.domain.alarms.causes import Cause, explain
from lumtar.domain.alarms.models import Alarm
from lumtar.domain.alarms.over_links import DOWN, UNREACHABLE
from lumtar.domain.controllers.models import ControllerItem


def place(now: datetime) -> list[int]:
    """Put the active alarms about parts of overlays under their causes. Returns the alarms that were put there.

    That their own device does not answer is seen when they are raised, as of all alarms; here come the far end of a tunnel and
    the port that carries it.
    """
    active = list(Alarm.objects.filter(resource_kind=CONTROLLER_ITEM, is_cleared=False))
    if not active:
        return []
    rows = ControllerItem.objects.filter(pk__in=[alarm.resource_id for alarm in active])
    items = {row.pk: row for row in rows.select_related("interface")}
    ends = {end for item in items.values() for end in (item.device_id, item.peer_id) if end}
    silent = {each.device_id: each for each in Alarm.objects.filter(type=UNREACHABLE, is_cleared=False, device_id__in=ends)}  # fmt: skip
    ports = {item.interface_id for item in items.values() if item.interface_id}
    down = {each.interface_id: each for each in Alarm.objects.filter(type=DOWN, is_cleared=False, interface_id__in=ports)}  # fmt: skip
    found: defaultdict[Cause, list[int]] = defaultdict(list)
    for alarm in active:
        item = items.get(alarm.resource_id)
        if item is None:
            continue
        if (cause := down.get(item.interface_id)) is not None:
            found[Cause(cause.pk, f"The port {item.interface} that carries it is down")].append(alarm.pk)
        elif (cause := silent.get(item.device_id) or silent.get(item.peer_id)) is not None:
            found[Cause(cause.pk, f"{cause.label} does not answer")].append(alarm.pk)
    return [alarm for cause, alarms in found.items() for alarm in explain(alarms, cause, now)]
