"""What is known of how agents refresh their counters (core/refresh.py), beyond a restart; the phase has to be found again."""

from collections.abc import Collection

from lumtar.core.refresh import Kind, Refresh
from lumtar.domain.inventory.models import DeviceState


def keep(device: int, refresh: Refresh) -> None:
    """Write down what was learnt of a device."""
    DeviceState.objects.filter(device_id=device).update(
        refresh_kind=refresh.kind, refresh_low_s=refresh.low, refresh_high_s=refresh.high
    )


def load(devices: Collection[int]) -> dict[int, Refresh]:
    """What was learnt of some devices."""
    rows = DeviceState.objects.filter(device_id__in=devices).exclude(refresh_kind=Kind.UNKNOWN)
    return {
        device: Refresh(Kind(kind), low, high)
        for device, kind, low, high in rows.values_list("device_id", "refresh_kind", "refresh_low_s", "refresh_high_s")
    }


def of_device(device: int) -> Refresh:
    """What was learnt of one device, also that nothing could be."""
    state = DeviceState.objects.filter(device_id=device).first()
    return Refresh(Kind(state.refresh_kind), state.refresh_low_s, state.refresh_high_s) if state else Refresh()
