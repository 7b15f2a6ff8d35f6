"""What there is: makers, models, serial numbers, software, own fields; and what changed since a time."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import orjson
from django.db import IntegrityError, connection, transaction

from lumtar.core.devicelist import ALSO
from lumtar.core.devicelist import COLUMNS as LISTED
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.models import OwnField
from lumtar.domain.inventory.scope import NATURAL, at_site, in_group, search
from lumtar.domain.logbook.services import note_action

COLUMNS = {
    "name": f"d.name {NATURAL}",
    "site": f"coalesce(s.name, '') {NATURAL}",
    "maker": "d.maker",
    "model": f"d.model {NATURAL}",
    "serial": "d.serial",
    "software": f"d.software {NATURAL}",
    "address": "d.address",
    "ports": "ports",
    "added": "d.added_at",
    "changed": "changed_at",
}
"""What the catalogue can be sorted by; a minus sign before it turns the order round."""
RESERVED = {*LISTED, *ALSO}


@dataclass(slots=True)
class Item:
    """A device as a thing. ``change`` is what was noted of it last, with ``changed_at``."""

    id: int
    name: str
    site: str
    maker: str
    model: str
    serial: str
    software: str
    address: str
    ports: int
    groups: list[str]
    tags: dict[str, str]
    own: dict[str, str]
    added_at: datetime
    changed_at: datetime | None
    change: str


def items(
    *,
    words: str = "",
    site: str = "",
    group: int | None = None,
    since: datetime | None = None,
    sort: str = "name",
    limit: int,
    offset: int = 0,
) -> tuple[list[Item], int]:
    """Devices that are not retired, and how many there are in all.

    Parameters
    ----------
    words : every one of them occurs somewhere in the row
    since : only what changed since then
    sort : a key of COLUMNS, with a minus sign for the other direction

    Raises
    ------
    Refusal
        if there is no such column
    """
    column = COLUMNS.get(sort.removeprefix("-"))
    if column is None:
        raise Refusal(f"There is no order {sort!r}; there are {', '.join(COLUMNS)}.")
    where, values = ["d.retired_at IS NULL"], dict[str, Any](limit=limit, offset=offset)
    texts = ("d.name", "d.address", "d.maker", "d.model", "d.serial", "d.software", "d.tags::text", "d.own::text")
    search(words, (*texts, "coalesce(s.name, '')", "coalesce(g.names::text, '')"), where, values)
    if site:
        where.append(at_site(site, values))
    if group is not None:
        where.append(in_group(group, values))
    if since is not None:
        where.append("e.at >= %(since)s")
        values["since"] = since
    sql = f"""
        SELECT d.id, d.name, coalesce(s.name, '') AS site, d.maker, d.model, d.serial, d.software, d.address,
            (SELECT count(*) FROM inventory_interface i WHERE i.device_id = d.id AND i.gone_at IS NULL) AS ports,
            coalesce(g.names, ARRAY[]::text[]), d.tags, d.own, d.added_at, e.at AS changed_at, coalesce(e.text, ''),
            count(*) OVER ()
        FROM inventory_device d
        LEFT JOIN inventory_site s ON s.id = d.site_id
        LEFT JOIN LATERAL (
            SELECT array_agg(x.name::text ORDER BY x.name) AS names FROM inventory_device_groups dg
            JOIN inventory_group x ON x.id = dg.group_id WHERE dg.device_id = d.id
        ) g ON true
        LEFT JOIN LATERAL (
            SELECT at, text FROM logbook_entry WHERE device_id = d.id AND kind IN ('inventory', 'user')
            ORDER BY at DESC, id DESC LIMIT 1
        ) e ON true
        WHERE {" AND ".join(where)}
        ORDER BY {column} {"DESC" if sort.startswith("-") else "ASC"} NULLS LAST, d.name {NATURAL}, d.id
        LIMIT %(limit)s OFFSET %(offset)s"""
    with connection.cursor() as cursor:
        cursor.execute(sql, values)
        rows = cursor.fetchall()
    return [_item(row) for row in rows], int(rows[0][-1]) if rows else 0


def _item(row: tuple[Any, ...]) -> Item:
    item = Item(*row[:-1])
    # A column of JSON comes as text from a question that Django did not put together.
    item.tags, item.own = (orjson.loads(value) if isinstance(value, str) else value for value in (item.tags, item.own))
    return item


def everything(**filters: Any) -> Iterator[Item]:
    """All of them, a thousand at a time."""
    offset = 0
    while True:
        rows, total = items(**filters, limit=1000, offset=offset)
        yield from rows
        offset += len(rows)
        if not rows or offset >= total:
            return


@transaction.atomic
def make_field(name: str, kind: str, choices: list[str], by: str) -> OwnField:
    """Add a field to every device.

    Raises
    ------
    Refusal
        with a sentence for the person who makes it
    """
    name = name.strip()
    choices = [choice.strip() for choice in choices if choice.strip()]
    if not 1 <= len(name) <= 60 or any(letter in name for letter in ',;|\t"=\n'):
        raise Refusal(
            "A field's name has 1 to 60 characters, none of them a comma, semicolon, bar, quote or equals sign."
        )
    if name.casefold() in RESERVED:
        raise Refusal(f"{name} is what a column of every list is called already.")
    if kind not in OwnField.Kind.values:
        raise Refusal(f"A field holds {', '.join(OwnField.Kind.values[:-1])} or {OwnField.Kind.values[-1]}.")
    if kind == OwnField.Kind.CHOICE and len(choices) < 2:
        raise Refusal("A choice needs two values at least.")
    try:
        with transaction.atomic():
            made = OwnField.objects.create(
                name=name, kind=kind, choices=choices if kind == OwnField.Kind.CHOICE else []
            )
    except IntegrityError as error:
        raise Refusal(f"There is a field called {name} already.") from error
    note_action(f"own field {name} made ({made.get_kind_display()})", by)
    return made


@transaction.atomic
def remove_field(pk: int, by: str) -> None:
    """Take a field away from every device, with what it held.

    Raises
    ------
    OwnField.DoesNotExist
    """
    own = OwnField.objects.select_for_update().get(pk=pk)
    with connection.cursor() as cursor:
        cursor.execute("UPDATE inventory_device SET own = own - %s WHERE jsonb_exists(own, %s)", [own.name, own.name])
        held = cursor.rowcount
    own.delete()
    note_action(f"own field {own.name} deleted with its values at {held} {'device' if held == 1 else 'devices'}", by)
