"""The expected topology: frozen, compared with what is seen, accepted port by port."""

from datetime import datetime

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Status

from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.topology import expected
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.schema import Schema

router = Router(tags=["links"])


class DifferenceOut(Schema):
    """A port at which something else is seen than expected; empty words are no neighbour."""

    interface_id: int
    label: str
    device_id: int
    device: str
    expected: str
    seen: str
    is_frozen: bool


class ExpectedOut(Schema):
    """At how many ports the expected neighbour is frozen, since when and by whom; and where what is seen differs."""

    frozen: int
    frozen_at: datetime | None
    frozen_by: str
    differences: list[DifferenceOut]


MOST_DIFFERENCES = 500


@router.get("/links/expected", needs=VIEWER, response=ExpectedOut)
def compare(request: HttpRequest) -> ExpectedOut:
    """What is seen now against what is expected: what was frozen, else what was there for an hour within the last day."""
    number, at, by = expected.frozen() or (0, None, "")
    found = expected.differences(timezone.now())[:MOST_DIFFERENCES]
    ends = {each.expected for each in found if each.expected}
    ports = {each.port for each in found} | {end.port for end in ends if end.port is not None}
    labels = dict(Interface.objects.filter(pk__in=ports).values_list("pk", "label"))
    devices = {each.device for each in found} | {end.device for end in ends}
    names = dict(Device.objects.filter(pk__in=devices).values_list("pk", "name"))
    return ExpectedOut(
        frozen=number,
        frozen_at=at,
        frozen_by=by,
        differences=[
            DifferenceOut(
                interface_id=each.port,
                label=labels[each.port],
                device_id=each.device,
                device=names[each.device],
                expected=f"{names.get(each.expected.device, '')} {labels.get(each.expected.port or 0, '')}".strip()
                if each.expected
                else "",
                seen=each.seen.name if each.seen else "",
                is_frozen=each.is_frozen,
            )
            for each in found
            if each.port in labels and each.device in names
        ],
    )


class FrozenOut(Schema):
    """At how many ports a neighbour is expected."""

    ports: int


@router.post("/links/expected", needs=ENGINEER.everywhere, response=FrozenOut)
def freeze(request: HttpRequest) -> FrozenOut:
    """What is seen now is what is expected from now on, at every port."""
    return FrozenOut(ports=expected.freeze(request.user.get_username()))


@router.delete("/links/expected", needs=ENGINEER.everywhere, response={204: None})
def thaw(request: HttpRequest) -> Status[None]:
    """Nothing is frozen any more."""
    expected.thaw(request.user.get_username())
    return Status(204, None)


@router.post("/interfaces/{int:interface}/expected", needs=ENGINEER.everywhere, response={204: None})
def accept(request: HttpRequest, interface: int) -> Status[None]:
    """What is seen at a port now is expected there from now on, and at its other end as well."""
    port = get_object_or_404(Interface, pk=interface)
    expected.accept(port.pk, request.user.get_username())
    return Status(204, None)
