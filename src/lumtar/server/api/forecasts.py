"""When ports will be full."""

from datetime import date, datetime

from django.http import HttpRequest
from django.utils import timezone
from ninja import Query

from lumtar.core.forecast import WORDS, Verdict
from lumtar.domain.readings import forecasts
from lumtar.domain.readings.forecasts import Forecast, ReachedOn
from lumtar.domain.reports import cells
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.problems import Problem
from lumtar.server.api.schema import Schema
from lumtar.server.api.scope import ScopeIn
from lumtar.server.api.times import past

router = Router(tags=["forecasts"])
MOST_PORTS, MOST_TOGETHER = 2000, 500
TOGETHER = cells.DeviceCells(0, "", "", [], [], [], [])


class ForecastRow(Schema):
    """A direction of a port: its trend with an interval that holds four of five times, and when shares are reached."""

    id: int
    label: str
    device_id: int
    device: str
    site: str
    way: str
    verdict: Verdict
    words: str
    days: int
    speed_bps: float
    level_bps: float | None
    level_percent: float | None
    slope_bps: float | None
    lowest_bps: float | None
    highest_bps: float | None
    reached: list[ReachedOn]


class ForecastFilter(ScopeIn):
    """Which ports, and at which time the forecast is made; ``together`` for what they carry in all."""

    together: bool = False

    interfaces: list[int] = []
    at: datetime | None = None


@router.get("/forecasts", needs=VIEWER, response=list[ForecastRow])
def several(request: HttpRequest, query: Query[ForecastFilter]) -> list[ForecastRow]:
    """Forecasts from the daily 95th percentiles of half a year; what is full first stands first."""
    moment = past(query.at)
    wanted = set(query.interfaces)
    ports = {
        port: (label, each)
        for each in cells.of_devices(scope=query.scope)
        for port, label in zip(each.ids, each.labels, strict=True)
        if not wanted or port in wanted
    }
    if len(ports) > MOST_PORTS:
        raise Problem(
            422,
            f"These are {len(ports):,} ports; {MOST_PORTS:,} at most are forecast at once. Choose a role or a site.",
        )
    until = moment or timezone.now()
    if query.together:
        if len(ports) > MOST_TOGETHER:
            raise Problem(422, f"These are {len(ports):,} ports; {MOST_TOGETHER} at most are forecast together.")
        name = f"{len(ports):,} ports together"
        return [_row(each, name, TOGETHER) for each in forecasts.together(list(ports), until)]
    sorted_forecasts = sorted(forecasts.of(list(ports), until), key=_urgency)
    return [_row(each, *ports[each.interface_id]) for each in sorted_forecasts]


def _urgency(each: Forecast) -> tuple[date, float]:
    """What is full first, then what is fullest."""
    full = next((reached.on for reached in each.reached if reached.share == 100), date.max)
    return full, -(each.level_percent or 0.0)


def _row(each: Forecast, label: str, device: cells.DeviceCells) -> ForecastRow:
    names = set(ForecastRow.model_fields) & set(Forecast.__dataclass_fields__)
    return ForecastRow(
        id=each.interface_id, label=label, device_id=device.id, device=device.name, site=device.site,
        words=WORDS[each.verdict], **{name: getattr(each, name) for name in names},
    )  # fmt: skip
