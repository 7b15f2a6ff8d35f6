"""Exporters over restarts: what they sent, how much was lost, and the templates that they sent last."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import transaction

from lumtar.domain.flows.models import Exporter

Key = tuple[str, str, int]
"""Address, protocol and observation domain."""
MOST_KEPT = 500
"""Templates of an exporter that are kept over a restart; those with more send them again soon."""


@dataclass(frozen=True, slots=True)
class Seen:
    """What an exporter sent since it was kept last: counters add up, the rest is as it is now.

    ``templates`` and ``sampling`` are None where they are as before.
    """

    device: int | None
    at: datetime
    records: int
    datagrams: int
    lost: int
    no_template: int
    malformed: int
    rate: float
    skew_s: float
    templates: list[list[Any]] | None = None
    sampling: dict[str, int] | None = None


ADDED = ("records", "datagrams", "lost", "no_template", "malformed")


@transaction.atomic
def keep(seen: Mapping[Key, Seen]) -> None:
    """Keep what exporters sent."""
    known = {
        (row.address, row.protocol, row.domain): row
        for row in Exporter.objects.select_for_update().filter(address__in={address for address, _, _ in seen})
    }
    new = [Exporter(address=key[0], protocol=key[1], domain=key[2]) for key in seen if key not in known]
    known |= {(row.address, row.protocol, row.domain): row for row in Exporter.objects.bulk_create(new)}
    changed = []
    for key, each in seen.items():
        row = known[key]
        for name in ADDED:
            setattr(row, name, max(0, getattr(row, name) + getattr(each, name)))
        row.device_id, row.last_at, row.rate, row.skew_s = each.device, each.at, each.rate, each.skew_s
        if each.templates is not None:
            row.templates = each.templates[-MOST_KEPT:]
        if each.sampling is not None:
            row.sampling = each.sampling
        changed.append(row)
    Exporter.objects.bulk_update(
        changed, [*ADDED, "device", "last_at", "rate", "skew_s", "templates", "sampling"], batch_size=200
    )


def stored() -> list[tuple[Key, list[list[Any]], dict[str, int]]]:
    """Of each exporter its templates, and its sampling as it says."""
    rows = Exporter.objects.values_list("address", "protocol", "domain", "templates", "sampling")
    return [
        ((address, protocol, domain), templates, sampling) for address, protocol, domain, templates, sampling in rows
    ]
