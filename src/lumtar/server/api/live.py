"""Ports looked at every few seconds, for as long as a screen asks for it."""

from datetime import datetime, timedelta

from django.http import HttpRequest
from django.utils import timezone
from ninja import Field, Status

from lumtar.core.measures import rates
from lumtar.core.units import duration
from lumtar.domain.inventory.models import Interface
from lumtar.domain.readings import live, series
from lumtar.server.api.access import OPERATOR, Router
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["live"])
SHOWN = timedelta(minutes=10)


class Looking(Schema):
    """Ports to look at. Without being asked again within a quarter of a minute the looking ends by itself."""

    interfaces: list[int] = Field(min_length=1, max_length=200)
    every_s: int = 2
    after: datetime | None = None


class LivePort(Schema):
    """A port and what was counted since: the end of each look in seconds of the epoch, what it covers, and rates."""

    id: int
    label: str
    device: str
    device_id: int
    in_speed_bps: int
    out_speed_bps: int
    at: list[float]
    seconds: list[float]
    in_bps: list[float]
    out_bps: list[float]


class LiveDevice(Schema):
    """How looking at a device goes; ``words`` is empty if all is well."""

    id: int
    name: str
    every_s: float
    took_ms: float
    words: str


class LiveOut(Schema):
    """What the looks found; ``at`` is what to ask ``after`` the next time."""

    at: datetime
    until: datetime
    ports: list[LivePort]
    devices: list[LiveDevice]


@router.post("/live", needs=OPERATOR, response=LiveOut)
def look(request: HttpRequest, body: Looking) -> LiveOut:
    """Look at ports for a while from now, and what was found so far."""
    with refusing():
        until = live.wish(body.interfaces, body.every_s, request.user.get_username())
    now = timezone.now()
    after = max(body.after or now - SHOWN, now - live.KEPT)
    interfaces = Interface.objects.filter(pk__in=body.interfaces).select_related("device")
    read = live.read(body.interfaces, after)
    speeds = series.newest_speeds(body.interfaces)
    ports = []
    for interface in interfaces.order_by("device__name", "if_index"):
        rows, speed = read[interface.pk], speeds.get(interface.pk)
        ports.append(
            LivePort(
                id=interface.pk,
                label=interface.label,
                device=interface.device.name,
                device_id=interface.device_id,
                in_speed_bps=speed.in_bps if speed else 0,
                out_speed_bps=speed.out_bps if speed else 0,
                at=[row.at.timestamp() for row in rows],
                seconds=[row.elapsed_ms / 1000 for row in rows],
                in_bps=[rates.bps(row.in_octets, row.elapsed_ms) or 0.0 for row in rows],
                out_bps=[rates.bps(row.out_octets, row.elapsed_ms) or 0.0 for row in rows],
            )
        )
    states = [
        LiveDevice(
            id=state.device_id,
            name=state.device.name,
            every_s=state.every_s,
            took_ms=state.took_ms,
            words=state.words or _slower(state.every_s, body.every_s, state.took_ms),
        )
        for state in live.states(body.interfaces)
    ]
    newest_at = max((row.at for rows in read.values() for row in rows), default=after)
    return LiveOut(at=newest_at, until=until, ports=ports, devices=states)


@router.delete("/live", needs=OPERATOR, response={204: None})
def leave(request: HttpRequest) -> Status[None]:
    """Look no longer."""
    live.end(request.user.get_username())
    return Status(204, None)


def _slower(every_s: float, wanted_s: int, took_ms: float) -> str:
    if every_s <= wanted_s:
        return ""
    return f"takes {took_ms:.0f} ms to answer, so it is looked at every {duration(round(every_s))} only"
