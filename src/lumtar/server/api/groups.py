"""Groups of ports: made, changed, and what is in them."""

from datetime import datetime

from django.http import HttpRequest
from ninja import Field, Status

from lumtar.core.groups import GROUP_FIELDS
from lumtar.domain.inventory import asking, groups
from lumtar.domain.inventory.groups import GroupSize, GroupSpec
from lumtar.domain.inventory.models import Group
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.conditions import ConditionField, fields_out
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["groups"])
NOTHING = GroupSize(0, 0)
SHOWN = ("name", "condition", "is_transport", "edition", "changed_at", "changed_by")


class GroupIn(Schema):
    """A group: what its ports have in common, the groups in it, and whether a network that is not ours joins its ports."""

    name: str
    condition: str = ""
    subgroups: list[int] = Field([], max_length=200)
    is_transport: bool = False


class GroupChange(GroupIn):
    """A change of a group of this edition."""

    edition: int


class GroupOut(GroupIn):
    """A group and how much is in it, in all and put into it by hand."""

    model_config = ALWAYS

    id: int
    edition: int
    changed_at: datetime
    changed_by: str
    ports: int
    devices: int
    ports_by_hand: int
    devices_by_hand: int


class GroupsOut(Schema):
    """All groups by name, and what their conditions can ask."""

    rows: list[GroupOut]
    fields: list[ConditionField]


class Asked(Schema):
    """A condition to be tried."""

    condition: str


class Member(Schema):
    """A port that a condition holds for."""

    device: str
    label: str


class MembersOut(Schema):
    """For how many ports a condition holds now, and the first of these."""

    ports: int
    examples: list[Member]


class ByHand(Schema):
    """Ports to put into a group, or to take out of it."""

    ports: list[int] = Field(min_length=1, max_length=2000)
    out: bool = False


class Put(Schema):
    """How many ports are in a group by hand."""

    ports: int


def _spec(body: GroupIn) -> GroupSpec:
    return GroupSpec(body.name, body.condition, body.subgroups, body.is_transport)


@router.get("/groups", needs=VIEWER, response=GroupsOut)
def list_groups(request: HttpRequest) -> GroupsOut:
    """All groups."""
    counts = groups.counts()
    rows = []
    for group in Group.objects.prefetch_related("subgroups", "ports", "devices"):
        counted = counts.get(group.pk, NOTHING)
        rows.append(
            GroupOut(
                id=group.pk,
                **{name: getattr(group, name) for name in SHOWN},
                subgroups=[each.pk for each in group.subgroups.all()],
                ports=counted.ports,
                devices=counted.devices,
                ports_by_hand=len(group.ports.all()),
                devices_by_hand=len(group.devices.all()),
            )
        )
    return GroupsOut(rows=rows, fields=fields_out(GROUP_FIELDS))


@router.post("/groups", needs=ENGINEER.everywhere, response={201: Put})
def make_group(request: HttpRequest, body: GroupIn) -> Status[Put]:
    """A new one."""
    with refusing():
        made = groups.save(_spec(body), request.user.get_username())
    return Status(201, Put(ports=made.ports.count()))


@router.put("/groups/{int:group}", needs=ENGINEER.everywhere, response=Put)
def change_group(request: HttpRequest, group: int, body: GroupChange) -> Put:
    """Change a group."""
    with refusing():
        changed = groups.save(_spec(body), request.user.get_username(), group, body.edition)
    return Put(ports=changed.ports.count())


@router.delete("/groups/{int:group}", needs=ENGINEER.everywhere, response={204: None})
def delete_group(request: HttpRequest, group: int) -> Status[None]:
    """Delete a group; what is in it stays."""
    groups.delete(group, request.user.get_username())
    return Status(204, None)


@router.post("/groups/{int:group}/ports", needs=ENGINEER.everywhere, response=Put)
def put_ports(request: HttpRequest, group: int, body: ByHand) -> Put:
    """Put ports into a group by hand, or take them out."""
    with refusing():
        return Put(ports=groups.put(group, body.ports, request.user.get_username(), body.out))


@router.post("/groups/try", needs=ENGINEER, response=MembersOut)
def try_condition(request: HttpRequest, body: Asked) -> MembersOut:
    """For which ports a condition holds now; nothing is changed."""
    with refusing():
        ports, examples = asking.preview("interface", body.condition)
    return MembersOut(ports=ports, examples=[Member(device=device, label=label) for device, label in examples])
