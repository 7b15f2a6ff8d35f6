"""Who takes power over Ethernet, now or at a past time."""

from dataclasses import asdict
from datetime import datetime

from django.http import HttpRequest

from lumtar.domain.reports import powered
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import past

router = Router(tags=["stations"])


class PoweredPortOut(Schema):
    """A port that delivers power, and what is plugged in there as far as that is known.

    ``neighbour`` as told by LLDP, ``access_point`` by its controller, ``macs`` as the switch hears them, with their addresses.
    """

    device_id: int
    device: str
    site: str
    interface_id: int
    label: str
    neighbour: str
    access_point: str
    macs: dict[str, list[str]]


@router.get("/powered", needs=VIEWER, response=list[PoweredPortOut])
def list_powered(
    request: HttpRequest, at: datetime | None = None, words: str = "", site: str = "", device: int | None = None
) -> list[PoweredPortOut]:
    """The ports that deliver power over Ethernet; the first 2,000."""
    found = powered.find(past(at), site=site, device=device, words=words)
    return [PoweredPortOut(**asdict(each)) for each in found]
