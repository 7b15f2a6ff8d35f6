"""Errors that only Ethernet knows: kept where there are some."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime

from django.db.models import Sum

from lumtar.core.ethernet import COUNTERS, Errors
from lumtar.core.levels import Level
from lumtar.domain.readings import retention
from lumtar.domain.readings.models import EthernetErrors


@dataclass(frozen=True, slots=True)
class EthernetSum:
    """What was counted over a time."""

    fcs_errors: int
    alignment_errors: int
    late_collisions: int


def append(found: Iterable[tuple[int, float, Errors]]) -> None:
    """Store what interfaces counted up to a time (seconds of the epoch); what is there already stays."""
    EthernetErrors.objects.bulk_create(
        (
            EthernetErrors(
                interface_id=interface,
                at=datetime.fromtimestamp(at, UTC),
                seconds=errors.seconds,
                **dict(zip(COUNTERS, errors.counts, strict=True)),
            )
            for interface, at, errors in found
        ),
        ignore_conflicts=True,
    )


def total(interface: int, start: datetime, end: datetime) -> EthernetSum:
    """What one interface counted from start to end."""
    rows = EthernetErrors.objects.filter(interface_id=interface, at__gt=start, at__lte=end)
    found = rows.aggregate(**{name: Sum(name) for name in COUNTERS})
    return EthernetSum(**{name: found[name] or 0 for name in COUNTERS})


def drop_old(now: datetime) -> None:
    """Delete what is older than hours are kept."""
    oldest = datetime.combine(retention.oldest_days(now)[Level.HOURS], datetime.min.time(), UTC)
    EthernetErrors.objects.filter(at__lt=oldest).delete()
