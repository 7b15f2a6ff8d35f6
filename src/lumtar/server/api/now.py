"""The first view: what is wrong, and is it getting worse?"""

from dataclasses import asdict
from datetime import datetime

from django.http import HttpRequest
from django.utils import timezone

from lumtar.domain.alarms.queries import AlarmRow
from lumtar.domain.reports.now import overview
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.fleet import EntryOut
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past

router = Router(tags=["now"])


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


class HeadlineOut(Schema):
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
    headline: HeadlineOut
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
    shown = overview(moment, until)
    return NowOut(
        at=until,
        headline=HeadlineOut(**asdict(shown.headline)),
        active=shown.active,
        causes=[CauseOut(row=row, spark=shown.lines.get(row.id, [])) for row in shown.alarms],
        changes=[EntryOut(**{name: getattr(entry, name) for name in EntryOut.model_fields}) for entry in shown.changes],
        busiest=[
            Busy(
                id=port.id,
                label=port.label,
                device=port.device,
                in_percent=port.in_percent or 0,
                out_percent=port.out_percent or 0,
            )
            for port in shown.busiest
        ],
        sites=[
            SitePorts(name=site.name, severity=shown.severities.get(site.name, 0), ids=site.ids, loads=site.loads)
            for site in shown.sites
        ],
    )
