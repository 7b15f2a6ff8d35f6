"""Groups of ports: by hand, by a condition, of other groups."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

from django.db import connection, transaction

from lumtar.core.conditions import understand
from lumtar.core.groups import GROUP_FIELDS, circle, within
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.asking import PORTS, as_sql
from lumtar.domain.inventory.models import Group, Interface
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark
from lumtar.domain.operation.services import announce

LONGEST_NAME = 80


def _subgroups() -> dict[int, list[int]]:
    inside: dict[int, list[int]] = {}
    for outer, inner in Group.subgroups.through.objects.values_list("from_group_id", "to_group_id"):
        inside.setdefault(outer, []).append(inner)
    return inside


def _is_in(groups: Collection[Group], values: dict[str, Any]) -> str:
    """A condition on PORTS: the port is in any of some groups; subgroups are not looked for."""
    name = f"groups{len(values)}"
    values[name] = [group.pk for group in groups]
    ways = [
        f"gi.id IN (SELECT interface_id FROM inventory_group_ports WHERE group_id = ANY(%({name})s))",
        f"gd.id IN (SELECT device_id FROM inventory_device_groups WHERE group_id = ANY(%({name})s))",
        *(as_sql(understand(group.condition, GROUP_FIELDS).tree, values) for group in groups if group.condition),
    ]
    return f"({' OR '.join(ways)})"


def in_group(pk: int, values: dict[str, Any]) -> str:
    """A query for the ports (id) and their devices (device) that are in a group now, directly or through its subgroups.

    Raises
    ------
    Group.DoesNotExist
    """
    Group.objects.only("pk").get(pk=pk)
    held = _is_in(Group.objects.filter(pk__in=within(_subgroups(), pk)), values)
    return f"SELECT gi.id, gd.id AS device {PORTS} AND {held}"


def polled_ports(pk: int) -> dict[int, int]:
    """The ports of a group that are polled now: the seconds between two polls of each.

    Raises
    ------
    Group.DoesNotExist
    """
    values: dict[str, Any] = {}
    inside = in_group(pk, values)
    with connection.cursor() as cursor:
        cursor.execute(
            f"""SELECT g.id, d.interval_s FROM ({inside}) g JOIN inventory_device d ON d.id = g.device
            WHERE d.enabled AND d.retired_at IS NULL""",
            values,
        )
        return dict(cursor.fetchall())


@dataclass(frozen=True, slots=True)
class GroupSize:
    """How much is in a group."""

    ports: int
    devices: int


def counts() -> dict[int, GroupSize]:
    """How much is in each group; all ports are looked at once, however many groups there are."""
    groups, inside = Group.objects.in_bulk(), _subgroups()
    values: dict[str, Any] = {}
    held = [_is_in([groups[each] for each in within(inside, pk)], values) for pk in groups]
    if not held:
        return {}
    each_port = ", ".join(f"{condition} AS in{place}" for place, condition in enumerate(held))
    # First by device, so that those are counted without sorting all ports once a group.
    each_device = ", ".join(f"count(*) FILTER (WHERE in{place}) AS n{place}" for place in range(len(held)))
    sums = ", ".join(f"sum(n{place})::bigint, count(*) FILTER (WHERE n{place} > 0)" for place in range(len(held)))
    with connection.cursor() as cursor:
        cursor.execute(
            f"SELECT {sums} FROM (SELECT {each_device} FROM (SELECT gd.id AS device, {each_port} {PORTS}) p GROUP BY device) d",
            values,
        )
        row = cursor.fetchone()
    return {pk: GroupSize(row[2 * place] or 0, row[2 * place + 1]) for place, pk in enumerate(groups)}


@dataclass(frozen=True, slots=True)
class GroupSpec:
    """What people say of a group. The ports that were put into it by hand are told by :func:`put`."""

    name: str
    condition: str = ""
    subgroups: Sequence[int] = ()
    is_transport: bool = False


@transaction.atomic
def save(spec: GroupSpec, by: str, pk: int | None = None, edition: int = 0) -> Group:
    """Keep a new group or a changed one.

    Raises
    ------
    Refusal, Stale, Group.DoesNotExist
    """
    name = spec.name.strip()
    if not 1 <= len(name) <= LONGEST_NAME:
        raise Refusal(f"A group's name has 1 to {LONGEST_NAME} characters.")
    condition = understand(spec.condition, GROUP_FIELDS)
    # Two who put groups into each other at once would close a circle that neither sees.
    list(Group.objects.select_for_update().values_list("pk"))
    there = Group.objects.in_bulk(spec.subgroups)
    if missing := [part for part in spec.subgroups if part not in there]:
        raise Refusal(f"There is no group {missing[0]}; it may have been deleted meanwhile.")
    if pk is not None and (around := circle(_subgroups(), pk, spec.subgroups)) is not None:
        which = "itself" if around == pk else f"{there[around].name}, which contains it already"
        raise Refusal(f"{name} cannot contain {which}.")
    group = Group() if pk is None else claim(Group, pk, edition)
    group.name, group.condition, group.is_transport = name, condition.text, spec.is_transport
    mark(group, by)
    group.subgroups.set(spec.subgroups)
    note_action(f"group {group.name} {'created' if pk is None else 'changed'}", by)
    announce("groups")
    return group


@transaction.atomic
def put(pk: int, ports: Sequence[int], by: str, out: bool = False) -> int:
    """Put ports into a group by hand, or take them out of it; how many there are by hand then.

    Raises
    ------
    Refusal, Group.DoesNotExist
    """
    group_row = Group.objects.select_for_update().get(pk=pk)
    known = set(Interface.objects.filter(pk__in=ports).values_list("pk", flat=True))
    if len(known) < len(set(ports)):
        raise Refusal("One of these ports is not there any more.")
    (group_row.ports.remove if out else group_row.ports.add)(*known)
    note_action(f"{len(known)} ports {'taken out of' if out else 'put into'} the group {group_row.name}", by)
    announce("groups")
    return group_row.ports.count()


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a group; what is in it stays.

    Raises
    ------
    Group.DoesNotExist
    """
    group_row = Group.objects.get(pk=pk)
    group_row.delete()
    note_action(f"group {group_row.name} deleted", by)
    announce("groups")
