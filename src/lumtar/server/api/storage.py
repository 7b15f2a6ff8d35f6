"""For how long readings and their sums are kept, and the disk that takes."""

from datetime import date, datetime

from django.http import HttpRequest
from ninja import Router, Schema

from lumtar.core.levels import Level
from lumtar.domain.readings import disk, retention
from lumtar.server.api.problems import refusing

router = Router(tags=["storage"])


class LevelOut(Schema):
    """A level: for how many days it is kept, what it takes now, and what it will take when it has been kept so long."""

    level: Level
    days: int
    oldest: date | None
    rows: int
    bytes: int
    bytes_a_row: float
    rows_a_day: int
    bytes_when_full: int


class StorageOut(Schema):
    """All levels, finest first."""

    levels: list[LevelOut]
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


@router.get("/storage", response=StorageOut)
def storage(request: HttpRequest) -> StorageOut:
    """What is kept, and the disk it takes."""
    told = retention.current()
    fields = tuple(LevelOut.model_fields)
    levels = [LevelOut(**{name: getattr(use, name) for name in fields}) for use in disk.use()]
    return StorageOut(levels=levels, edition=told.edition, changed_at=told.changed_at, changed_by=told.changed_by)


@router.put("/storage", response=StorageOut)
def change_storage(request: HttpRequest, told: StorageChange) -> StorageOut:
    """Keep levels for another time; what is older is dropped within the hour."""
    days = dict(zip(retention.FIELDS, (told.readings, told.five_minutes, told.hours, told.days), strict=True))
    with refusing():
        retention.change(days, told.edition, request.user.get_username())
    return storage(request)
