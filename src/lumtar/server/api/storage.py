"""For how long readings and their sums are kept, and the disk that takes."""

from datetime import datetime

from django.http import HttpRequest

from lumtar.domain.readings import disk, retention
from lumtar.domain.readings.disk import LevelUse
from lumtar.server.api.access import ADMINISTRATOR, ENGINEER, Router
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["storage"])


class StorageOut(Schema):
    """All levels, finest first."""

    levels: list[LevelUse]
    edition: int
    changed_at: datetime
    changed_by: str


class StorageChange(Schema):
    """Days that each level is to be kept for; ``edition`` is that of what was seen."""

    edition: int
    readings: int
    five_minutes: int
    hours: int
    days: int


@router.get("/storage", needs=ENGINEER.everywhere, response=StorageOut)
def storage(request: HttpRequest) -> StorageOut:
    """What is kept, and the disk it takes."""
    kept_for = retention.current()
    return StorageOut(
        levels=disk.use(), edition=kept_for.edition, changed_at=kept_for.changed_at, changed_by=kept_for.changed_by
    )


@router.put("/storage", needs=ADMINISTRATOR.everywhere, response=StorageOut)
def change_storage(request: HttpRequest, body: StorageChange) -> StorageOut:
    """Keep levels for another time; what is older is dropped within the hour."""
    days = dict(zip(retention.FIELDS, (body.readings, body.five_minutes, body.hours, body.days), strict=True))
    with refusing():
        retention.change(days, body.edition, request.user.get_username())
    return storage(request)
