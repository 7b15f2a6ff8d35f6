"""Pictures beneath maps: floor plans, regions."""

import base64
import binascii
import math
from dataclasses import dataclass
from datetime import datetime

from django.utils import timezone

from lumtar.core.refusal import Refusal
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce
from lumtar.domain.topology.models import MapBackground

LARGEST = 8 << 20
"""Octets of a picture."""
FARTHEST = 1_000_000.0
KINDS = {b"\x89PNG\r\n\x1a\n": "image/png", b"\xff\xd8\xff": "image/jpeg"}
"""What pictures begin with. Others are not taken: SVG may hold scripts."""


@dataclass(frozen=True, slots=True)
class Area:
    """Where a picture lies, in the map's own pixels."""

    x: float
    y: float
    width: float
    height: float


@dataclass(frozen=True, slots=True)
class Background:
    """A picture beneath a map; ``changed_at`` is another one with each picture."""

    area: Area
    changed_at: datetime


def of_map(name: str) -> Background | None:
    """What lies beneath a map, without the picture itself."""
    row = MapBackground.objects.filter(map=name).defer("picture").first()
    return Background(Area(row.x, row.y, row.width, row.height), row.changed_at) if row else None


def keep(name: str, area: Area, picture: str | None, by: str) -> None:
    """Lay a picture beneath a map, or move the one that lies there.

    Parameters
    ----------
    picture : in base 64; None leaves it as it is

    Raises
    ------
    Refusal
    """
    sides = (area.x, area.y, area.width, area.height)
    if not all(math.isfinite(each) and abs(each) <= FARTHEST for each in sides) or min(area.width, area.height) < 1:
        raise Refusal("A background lies within a million pixels, and is at least one pixel wide and high.", "width")
    there = MapBackground.objects.filter(map=name).first()
    if picture is None and there is None:
        raise Refusal("There is no background yet: choose a picture.", "picture")
    row = there or MapBackground(map=name)
    row.x, row.y, row.width, row.height = sides
    if picture is not None:
        row.picture, row.kind = _picture(picture)
        row.changed_at = timezone.now()
    row.changed_by = by[:150]
    row.save()
    note_action(f"background of the map {name} changed", by)
    announce("topology")


def _picture(given: str) -> tuple[bytes, str]:
    try:
        octets = base64.b64decode(given, validate=True)
    except (binascii.Error, ValueError) as error:
        raise Refusal("The picture is not in base 64.", "picture") from error
    if len(octets) > LARGEST:
        raise Refusal(f"A picture has at most {LARGEST >> 20} MiB.", "picture")
    kind = next((kind for begins, kind in KINDS.items() if octets.startswith(begins)), "")
    if not kind:
        raise Refusal("A background is a PNG or JPEG picture.", "picture")
    return octets, kind


def remove(name: str, by: str) -> bool:
    """Take a map's background away; whether there was one."""
    gone, _ = MapBackground.objects.filter(map=name).delete()
    if gone:
        note_action(f"background of the map {name} taken away", by)
        announce("topology")
    return bool(gone)
