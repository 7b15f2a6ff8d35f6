"""Writing down what people do."""

from typing import TYPE_CHECKING

from django.utils import timezone

from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.services import announce

if TYPE_CHECKING:
    from lumtar.domain.inventory.models import Device, Interface


def note_action(text: str, by: str, device: "Device | None" = None, interface: "Interface | None" = None) -> None:
    """Somebody changed something: what, who, and now."""
    Entry.objects.create(
        at=timezone.now(),
        kind=Entry.Kind.USER,
        device=interface.device if interface else device,
        interface=interface,
        by=by[:150],
        text=text[:400],
    )
    announce("logbook")
