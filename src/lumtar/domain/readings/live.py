"""Ports that somebody looks at: who wishes to, what was read for them, and for how long."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from django.db.models import Min
from django.utils import timezone

from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.readings.models import LiveReading, LiveState, LiveWish

EVERY = (1, 2, 5, 10)
"""Seconds between looks that can be wished for."""
LASTS = timedelta(seconds=15)
"""A wish that is not renewed in this time has ended."""
KEPT = timedelta(hours=1)
MOST_PORTS = 12
"""That one person looks at."""
MOST_DEVICES = 20
"""That are looked at in all, by everybody."""
MOST_AT_A_DEVICE = 48
"""Ports of one device, by everybody."""


@dataclass(slots=True)
class Look:
    """What is to be read of one device: its interfaces by ifIndex, and seconds between looks."""

    every_s: int
    ports: dict[int, int] = field(default_factory=dict)


def wish(ports: Sequence[int], every_s: int, by: str) -> datetime:
    """Ask for these interfaces to be looked at for a while from now.

    Returns
    -------
    until

    Raises
    ------
    Refusal
        with the reason why they are not looked at
    """
    chosen = sorted(set(ports))
    if every_s not in EVERY:
        raise Refusal(f"Choose {', '.join(map(str, EVERY[:-1]))} or {EVERY[-1]} seconds.")
    if len(chosen) > MOST_PORTS:
        raise Refusal(f"These are {len(chosen)} ports; {MOST_PORTS} at most are looked at together.")
    interfaces = list(Interface.objects.filter(pk__in=chosen).select_related("device"))
    if len(interfaces) < len(chosen):
        raise Refusal("One of these ports is not there any more.")
    for interface in interfaces:
        _check(interface)
    now = timezone.now()
    _check_room(interfaces, now, by)
    until = now + LASTS
    LiveWish.objects.bulk_create(
        (LiveWish(interface_id=pk, by=by, every_s=every_s, until=until) for pk in chosen),
        update_conflicts=True,
        unique_fields=["interface", "by"],
        update_fields=["every_s", "until"],
    )
    return until


def _check(interface: Interface) -> None:
    device = interface.device
    if device.retired_at:
        raise Refusal(f"{device.name} is retired; restore it first.")
    if not device.enabled:
        raise Refusal(f"Polling of {device.name} is switched off; switch it on first.")
    if interface.gone_at or device.way != Device.Way.SNMP:
        raise Refusal(f"{device.name} does not list {interface.label} any more.")


def _check_room(ports: Iterable[Interface], now: datetime, by: str) -> None:
    """Whether what others look at leaves room."""
    asked = LiveWish.objects.filter(until__gt=now).exclude(by=by)
    looked_at: dict[int, set[int]] = {}
    for device, port in asked.values_list("interface__device_id", "interface_id"):
        looked_at.setdefault(device, set()).add(port)
    for interface in ports:
        looked_at.setdefault(interface.device_id, set()).add(interface.pk)
        if len(looked_at[interface.device_id]) > MOST_AT_A_DEVICE:
            raise Refusal(f"Too many ports of {interface.device.name} are looked at just now.")
    if len(looked_at) > MOST_DEVICES:
        raise Refusal(f"{MOST_DEVICES} devices at most are looked at at a time, by everybody together.")


def end(by: str) -> None:
    """Somebody looks no longer."""
    LiveWish.objects.filter(by=by).delete()


def wanted() -> dict[int, Look]:
    """What is to be looked at now, by device; the shortest of several wishes for a device holds."""
    asked = (
        LiveWish.objects.filter(until__gt=timezone.now(), interface__gone_at=None)
        .values("interface__device_id", "interface_id", "interface__if_index")
        .annotate(every=Min("every_s"))
        .order_by("interface__if_index")
    )
    looks: dict[int, Look] = {}
    for row in asked:
        look = looks.setdefault(row["interface__device_id"], Look(row["every"]))
        look.every_s = min(look.every_s, row["every"])
        look.ports[row["interface__if_index"]] = row["interface_id"]
    return looks


def keep(readings: Sequence[LiveReading], states: Iterable[LiveState]) -> None:
    """Store what was looked at."""
    # A device may have been deleted since it was read.
    there = set(Interface.objects.filter(pk__in={row.interface_id for row in readings}).values_list("pk", flat=True))
    LiveReading.objects.bulk_create((row for row in readings if row.interface_id in there), ignore_conflicts=True)
    newest = {state.device_id: state for state in states}
    known = set(Device.objects.filter(pk__in=newest).values_list("pk", flat=True))
    LiveState.objects.bulk_create(
        (state for pk, state in newest.items() if pk in known),
        update_conflicts=True,
        unique_fields=["device"],
        update_fields=["at", "every_s", "took_ms", "words"],
    )


def forget_old() -> None:
    """Delete wishes that ended and readings that nobody sees any more."""
    now = timezone.now()
    LiveWish.objects.filter(until__lt=now).delete()
    LiveReading.objects.filter(at__lt=now - KEPT).delete()
    LiveState.objects.filter(at__lt=now - KEPT).delete()


def read(ports: Sequence[int], after: datetime) -> dict[int, list[LiveReading]]:
    """What was counted after a time, by interface, in the order of time."""
    readings: dict[int, list[LiveReading]] = {port: [] for port in ports}
    for row in LiveReading.objects.filter(interface_id__in=ports, at__gt=after).order_by("at"):
        readings[row.interface_id].append(row)
    return readings


def states(ports: Sequence[int]) -> list[LiveState]:
    """How looking at the devices of these interfaces goes, as far as it has begun."""
    return list(
        LiveState.objects.filter(device__interfaces__in=ports, at__gt=timezone.now() - LASTS)
        .select_related("device")
        .distinct()
        .order_by("device__name")
    )
