"""What can be asked of the logbook."""

from datetime import datetime

from django.db.models import Q

from lumtar.domain.logbook.models import Entry

OF_ALL = (Entry.Kind.RESTART, Entry.Kind.INVENTORY, Entry.Kind.USER)
"""What happens to a device happens to each of its ports; what happens to another port does not."""


def about(interface: int, device: int, start: datetime, end: datetime, limit: int) -> list[Entry]:
    """What happened to an interface or to its device as a whole, newest first."""
    whole = Q(device_id=device, interface_id=None, kind__in=OF_ALL)
    found = Entry.objects.filter(Q(interface_id=interface) | whole, at__gte=start, at__lt=end)
    return list(found.order_by("-at")[:limit])
