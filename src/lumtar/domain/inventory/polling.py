"""Polls that somebody asks for."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.db.models import F, FloatField, Sum
from django.db.models.functions import Cast
from django.utils import timezone

from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.models import Device, DeviceState, PollRequest
from lumtar.domain.operation.models import Process
from lumtar.domain.operation.services import announce

ENOUGH = 200
"""Requests after which the collector's own time for one is known well enough."""
KEPT = timedelta(days=7)
FORGOTTEN = timedelta(minutes=5)
"""A request that no collector took in this time is not answered any more."""


def ask(pk: int, by: str) -> PollRequest:
    """Ask for a poll now.

    Raises
    ------
    Refusal
        with the reason why it will not be polled
    Device.DoesNotExist
    """
    device = Device.objects.get(pk=pk)
    if device.retired_at:
        raise Refusal(f"{device.name} is retired; restore it first.")
    if not device.enabled:
        raise Refusal(f"Polling of {device.name} is switched off; switch it on first.")
    now = timezone.now()
    PollRequest.objects.filter(device=device, asked_at__lt=now - KEPT).delete()
    return PollRequest.objects.create(device=device, asked_by=by, asked_at=now)


MOST_AT_ONCE = 50
"""Devices that are polled at once to find a cause: more would keep the collector from the others."""


def ask_at_once(devices: Collection[int]) -> None:
    """Have devices polled at once since an alarm hangs on whether they answer; those that somebody asked for already are left."""
    if not devices:
        return
    since = timezone.now() - FORGOTTEN
    asked = PollRequest.objects.filter(device_id__in=devices, done_at=None, asked_at__gt=since)
    left = sorted(set(devices) - set(asked.values_list("device_id", flat=True)))[:MOST_AT_ONCE]
    PollRequest.objects.bulk_create(
        PollRequest(device_id=device, asked_by="", asked_at=timezone.now()) for device in left
    )


def waiting() -> list[tuple[int, int]]:
    """Requests that nobody has answered yet: (request, device)."""
    since = timezone.now() - FORGOTTEN
    return list(PollRequest.objects.filter(done_at=None, asked_at__gt=since).values_list("pk", "device_id"))


def answer(requests: list[int], device: int, record: dict[str, Any]) -> None:
    """Write down what a poll did, for those who asked."""
    PollRequest.objects.filter(pk__in=requests).update(done_at=timezone.now(), record=record)
    announce("polls", [device])


@dataclass(frozen=True, slots=True)
class PollingLoad:
    """What polling costs: requests a second in all, and the collector's processor time for one, if it is known yet."""

    requests_per_s: float
    ms_per_request: float | None


def load() -> PollingLoad:
    """What polling costs now."""
    polled = DeviceState.objects.filter(device__enabled=True, device__retired_at=None, requests__isnull=False)
    rate = Cast(F("requests"), FloatField()) / F("device__interval_s")
    total = polled.aggregate(total=Sum(rate))["total"] or 0.0
    collector = Process.objects.filter(name="collector").first()
    sent = collector.detail.get("requests", 0) if collector else 0
    cost = 1000 * collector.detail["cpu_s"] / sent if collector and sent >= ENOUGH else None
    return PollingLoad(float(total), cost)
