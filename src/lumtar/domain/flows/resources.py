"""Watched traffic and ports of exporters as resources."""

from collections.abc import Collection

from lumtar.core.measures.traffic import FLOW_PORT, STRANGER, TRAFFIC
from lumtar.domain.flows.models import Stranger, WatchedTraffic
from lumtar.domain.inventory.resources import interfaces_named
from lumtar.domain.operation.resources import Kind, Named, register


def _traffic(ids: Collection[int]) -> dict[int, Named]:
    return {pk: Named(name) for pk, name in WatchedTraffic.objects.filter(pk__in=ids).values_list("pk", "name")}


def _strangers(ids: Collection[int]) -> dict[int, Named]:
    rows = Stranger.objects.filter(pk__in=ids).select_related("known", "interface__device__site")
    found = {}
    for row in rows:
        port = row.interface
        site = port.device.site.name if port and port.device.site else ""
        found[row.pk] = Named(
            f"{row.address} ({row.known})",
            site,
            port.device_id if port else None,
            row.interface_id,
            row.accepted_at is None,
        )
    return found


register(Kind(STRANGER, "stranger", "/traffic?list=strangers", _strangers))
register(Kind(TRAFFIC, "watched traffic", "/traffic?watched={id}", _traffic))
register(Kind(FLOW_PORT, "port that flows are told of", "/traffic?interface={id}", interfaces_named))
