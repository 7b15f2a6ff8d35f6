"""Errors that only Ethernet knows: kept where there are some."""

from collections.abc import Iterable
from datetime import UTC, datetime

from lumtar.core.ethernet import COUNTERS, Errors
from lumtar.core.levels import Level
from lumtar.domain.readings import retention
from lumtar.domain.readings.models import EthernetErrors


def append(counted: Iterable[tuple[int, float, Errors]]) -> None:
    """Store what interfaces counted up to a time (seconds of the epoch); what is there already stays."""
    EthernetErrors.objects.bulk_create(
        (
            EthernetErrors(
                interface_id=interface,
                at=datetime.fromtimestamp(at, UTC),
                seconds=errors.seconds,
                **dict(zip(COUNTERS, errors.counts, strict=True)),
            )
            for interface, at, errors in counted
        ),
        ignore_conflicts=True,
    )


def drop_old(now: datetime) -> None:
    """Delete what is older than hours are kept."""
    oldest = datetime.combine(retention.oldest_days(now)[Level.HOURS], datetime.min.time(), UTC)
    EthernetErrors.objects.filter(at__lt=oldest).delete()
