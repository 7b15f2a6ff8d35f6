"""Impact: what would be cut off, or lose its second way, if something failed."""

import re
from dataclasses import asdict

from django.http import HttpRequest
from ninja import Query

from lumtar.domain.inventory.models import Device
from lumtar.domain.reports import impact
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.map import NODE_KEY
from lumtar.server.api.problems import Problem
from lumtar.server.api.schema import Schema

router = Router(tags=["map"])


class HitOut(Schema):
    """A device that a failure would concern, and how many of its ports are up."""

    id: int
    name: str
    site: str
    ports_up: int


class ImpactOut(Schema):
    """The devices that would be cut off from the rest, and those that would keep one way where they have two now."""

    cut_off: list[HitOut]
    one_way_left: list[HitOut]


class Failing(Schema):
    """What fails: a card of the map, the link at a port, or several devices, ports and sites at once."""

    node: str = ""
    interface: int | None = None
    devices: list[int] = []
    interfaces: list[int] = []
    sites: list[str] = []


@router.get("/map/impact", needs=VIEWER, response=ImpactOut)
def impact_of(request: HttpRequest, query: Query[Failing]) -> ImpactOut:
    """What would be cut off, or lose its second way, if a site, a device, a transport or the link at a port failed now.

    Of several devices, ports and sites: if all of them failed at once, as in a maintenance.
    """
    kind, _, number = query.node.partition("-")
    if query.interface is not None:
        cost = impact.of(interfaces=[query.interface])
    elif query.devices or query.interfaces or query.sites:
        at_sites = Device.objects.filter(retired_at=None, site__name__in=query.sites).values_list("pk", flat=True)
        cost = impact.of(devices={*query.devices, *at_sites}, interfaces=query.interfaces)
    elif not re.match(NODE_KEY, query.node):
        raise Problem(422, "Name a card of the map, as device-5, or a port.")
    elif kind == "site":
        at_site = Device.objects.filter(retired_at=None, site=int(number) or None)
        cost = impact.of(devices=list(at_site.values_list("pk", flat=True)))
    elif kind == "points":
        raise Problem(422, "Nothing but their clients hangs on access points.")
    else:
        cost = impact.of(**{f"{kind}s": [int(number)]})
    hits = {name: [HitOut(**asdict(hit)) for hit in getattr(cost, name)] for name in ("cut_off", "one_way_left")}
    return ImpactOut(**hits)
