"""Paths that devices measure themselves: which are wanted, until where they are stored, and what was read of them."""

from collections.abc import Mapping, Sequence
from datetime import timedelta

from django.db import connection, transaction
from django.utils import timezone

from lumtar.core.paths.device_tests import INTERVAL_S
from lumtar.core.paths.kinds import KINDS
from lumtar.domain.paths import services, store
from lumtar.domain.paths.models import Path

OLDEST = timedelta(hours=20)
"""A device's memory beyond that is left: it lies where no partition is, or is long judged."""


def wanted() -> dict[int, list[Path]]:
    """The paths that devices measure, by device."""
    kinds = [name for name, kind in KINDS.items() if kind.is_by_device]
    found: dict[int, list[Path]] = {}
    for row in Path.objects.filter(kind__in=kinds, enabled=True).exclude(device=None).order_by("pk"):
        found.setdefault(row.device_id or 0, []).append(row)
    return found


def stored_until(row: Path) -> float:
    """Seconds of the epoch until which intervals of a path are stored."""
    oldest = timezone.now() - OLDEST
    with connection.cursor() as cursor:
        cursor.execute(
            f"SELECT date_part('epoch', max(at)) FROM {store.MINUTES} WHERE path_id = %s AND at >= %s", [row.pk, oldest]
        )
        newest = cursor.fetchone()[0]
    return oldest.timestamp() if newest is None else newest + INTERVAL_S


@transaction.atomic
def keep(rows: Sequence[Path], made: store.Rows, numbers: Mapping[int, int], problems: Mapping[int, str]) -> None:
    """Keep intervals together with the number of the last probe that is in them, so that none is in two."""
    if len(made):
        store.MINUTES.ensure(*(store.moment(float(at)) for at in (made["at"].min(), made["at"].max())))
        store.append(made)
    changed = [row for row in rows if row.pk in numbers and row.told_number != numbers[row.pk]]
    for row in changed:
        row.told_number = numbers[row.pk]
    Path.objects.bulk_update(changed, ["told_number"])
    services.note_problems(rows, problems)
