"""Normal ranges of subjects, as they are kept."""

from collections.abc import Sequence
from datetime import datetime

import numpy as np
from django.db.models import Count, Max

from lumtar.core.rules import Baselines, Reference
from lumtar.core.rules.baseline import WEEK_H
from lumtar.domain.alarms.models import Baseline


def keep(measure: str, reference: Reference, subjects: Sequence[int], ranges: Baselines, at: datetime) -> None:
    """Keep the normal ranges of some subjects; they take the place of earlier ones."""
    both = np.stack([ranges.median, ranges.scale], axis=1).astype("<f4")
    Baseline.objects.bulk_create(
        (
            Baseline(
                measure=measure, reference=reference, subject=subject, ranges=both[place].tobytes(),
                weeks=int(ranges.weeks[place]), learned_at=at,
            )
            for place, subject in enumerate(subjects)
        ),
        update_conflicts=True,
        unique_fields=["measure", "reference", "subject"],
        update_fields=["ranges", "weeks", "learned_at"],
        batch_size=500,
    )  # fmt: skip


def load(measure: str, reference: Reference, subjects: Sequence[int]) -> tuple[list[int], Baselines]:
    """Those of some subjects of which anything is known, and their normal ranges."""
    rows = Baseline.objects.filter(measure=measure, reference=reference, subject__in=subjects).order_by("subject")
    known, tables, weeks = [], [], []
    for subject, ranges, count in rows.values_list("subject", "ranges", "weeks").iterator(2000):
        known.append(subject)
        tables.append(np.frombuffer(bytes(ranges), "<f4").reshape(2, WEEK_H))
        weeks.append(count)
    both = np.array(tables, np.float32).reshape(-1, 2, WEEK_H)
    return known, Baselines(both[:, 0].copy(), both[:, 1].copy(), np.array(weeks, np.int16))


def stamp() -> tuple[int, datetime | None]:
    """What changes when something is learned."""
    found = Baseline.objects.aggregate(count=Count("pk"), last=Max("learned_at"))
    return found["count"], found["last"]
