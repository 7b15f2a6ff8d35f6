"""Gaps that begin and end with a device's use."""

from datetime import datetime
from typing import Any

from django.dispatch import receiver

from lumtar.domain.inventory.signals import restored, retired
from lumtar.domain.readings.models import Gap


@receiver(retired)
def open_gap(sender: Any, *, device: int, at: datetime, **_: Any) -> None:
    """From now on nothing is read of it, for a reason."""
    Gap.objects.filter(device_id=device, end=None).update(end=at)
    Gap.objects.create(device_id=device, start=at, reason=Gap.Reason.RETIRED, words="retired, not polled")


@receiver(restored)
def close_gap(sender: Any, *, device: int, at: datetime, **_: Any) -> None:
    """It is read again."""
    Gap.objects.filter(device_id=device, reason=Gap.Reason.RETIRED, end=None).update(end=at)
