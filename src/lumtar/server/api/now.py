"""The first view: what is wrong, and is it getting worse?"""

from datetime import datetime, timedelta
from heapq import nlargest

from django.http import HttpRequest
from django.utils import timezone

from lumtar.core.lede import Cause, Standing, lede
from lumtar.domain.alarms import queries as alarms
from lumtar.domain.alarms.queries import AlarmRow
from lumtar.domain.inventory import queries as inventory
from lumtar.domain.inventory.queries import NO_SITE
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings import sparks
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.fleet import EntryOut
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past

router = Router(tags=["now"])
BUSIEST = 6
SHOWN = 100
"""Alarms, of however many are active."""


class CauseOut(Schema):
    """An alarm that stands, with a line of its measure over the last two hours, oldest first (per cent or None)."""

    row: AlarmRow
    spark: list[float | None]


class SitePorts(Schema):
    """A site: ports and their loads side by side (see inventory's SiteCells), and the worst severity there."""

    name: str
    severity: int
    ids: list[int]
    loads: list[float]


class LedeOut(Schema):
    """The opening sentence in two parts, and the line beneath."""

    strong: str
    rest: str
    second: str


class Busy(Schema):
    """A busy port."""

    id: int
    label: str
    device: str
    in_percent: float
    out_percent: float


class NowOut(Schema):
    """Everything that Now shows."""

    at: datetime
    lede: LedeOut
    causes: list[CauseOut]
    active: int
    """How many alarms are active in all; ``causes`` are the worst of them."""
    changes: list[EntryOut]
    busiest: list[Busy]
    sites: list[SitePorts]


@router.get("/now", needs=VIEWER, response=NowOut)
def now(request: HttpRequest, at: datetime | None = None) -> NowOut:
    """The state of the whole network, now or at a past time."""
    moment = past(at)
    until = moment or timezone.now()
    causes, active = alarms.active(until, limit=SHOWN)
    sites = inventory.cells(moment)
    devices, _ = inventory.devices(moment, limit=100_000)
    standing = Standing(
        devices=len(devices),
        answering=sum(device.reach == "answers" for device in devices),
        ports=sum(site.used for site in sites),
        ports_up=sum(site.up for site in sites),
    )
    told = [
        Cause(
            cause.label,
            cause.text,
            (until - cause.raised_at).total_seconds(),
        )
        for cause in causes
    ]
    sentence = lede(told, standing, past=moment is not None, active=active)
    lines = sparks.of(causes, until)
    entries = Entry.objects.filter(at__gt=until - timedelta(hours=1), at__lte=until).order_by("-at", "-id")
    fields = tuple(EntryOut.model_fields)
    loads = (pair for site in sites for pair in zip(site.loads, site.ids, strict=True) if pair[0] > 0)
    busiest, _ = inventory.ports(moment, sort="load", only=[port for _, port in nlargest(BUSIEST, loads)])
    worst: dict[str, int] = {}
    for device in devices:
        worst[device.site or NO_SITE] = max(worst.get(device.site or NO_SITE, 0), device.severity)
    return NowOut(
        at=until,
        lede=LedeOut(strong=sentence.strong, rest=sentence.rest, second=sentence.second),
        active=active,
        causes=[CauseOut(row=cause, spark=lines.get(cause.id, [])) for cause in causes],
        changes=[EntryOut(**entry) for entry in entries.values(*fields)[:12]],
        busiest=[
            Busy(
                id=port.id,
                label=port.label,
                device=port.device,
                in_percent=port.in_percent or 0,
                out_percent=port.out_percent or 0,
            )
            for port in busiest
        ],
        sites=[
            SitePorts(name=site.name, severity=worst.get(site.name, 0), ids=site.ids, loads=site.loads)
            for site in sites
        ],
    )
