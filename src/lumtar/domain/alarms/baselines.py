"""Normal ranges of subjects, as they are kept."""

from collections.abc import Sequence
from datetime import datetime

import numpy as np
from django.db.models import Max

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


def learned_at() -> datetime | None:
    """When something was learned last; None if nothing ever was."""
    last: datetime | None = Baseline.objects.aggregate(last=Max("learned_at"))["last"]
    return last


def forget(before: datetime) -> None:
    """Forget what was not learned anew since a time: no rule asks for it any more."""
    Baseline.objects.filter(learned_at__lt=before).delete()
