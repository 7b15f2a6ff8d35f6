"""What would be cut off, or have one way left, if something failed."""

from collections.abc import Collection
from dataclasses import dataclass

from django.db.models import Count, F, Q
from django.utils import timezone

from lumtar.core.topology.impact import impact
from lumtar.domain.inventory.models import Device
from lumtar.domain.topology import queries

UP = 1


@dataclass(slots=True)
class Hit:
    """A device that a failure would concern, and how many of its ports are up."""

    id: int
    name: str
    site: str
    ports_up: int


@dataclass(slots=True)
class Cost:
    """The devices that would be cut off from the rest, and those that would keep one way where they have two now."""

    cut_off: list[Hit]
    one_way_left: list[Hit]


def of(devices: Collection[int] = (), interfaces: Collection[int] = (), transports: Collection[int] = ()) -> Cost:
    """What it would cost if all of these failed at once; of ports, the links at them."""
    joined = queries.joined(timezone.now())
    ports = set(interfaces)
    without = [place for place, ends in enumerate(joined) if any(end.port in ports for end in ends)]
    failed = [*devices, *(-number for number in transports)]
    found = impact([(a.device, b.device) for a, b in joined], failed, without)
    return Cost(_hits(found.cut_off), _hits(found.one_way_left))


def _hits(devices: Collection[int]) -> list[Hit]:
    """Transports are none: they are not ours."""
    rows = Device.objects.filter(pk__in=[each for each in devices if each > 0]).annotate(
        at=F("site__name"),
        up=Count("interfaces", filter=Q(interfaces__gone_at=None, interfaces__newest__oper=UP)),
    )
    return [Hit(row.pk, row.name, row.at or "", row.up) for row in rows.order_by("site__name", "name")]
