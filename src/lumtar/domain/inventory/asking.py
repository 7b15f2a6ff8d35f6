"""Asking the database which ports, devices and components a condition holds for."""

from dataclasses import dataclass
from typing import Any

from django.db import connection

from lumtar.core.conditions import Ask, Both, Either, Field, Kind, Not, Tree, quantity, understand
from lumtar.core.groups import (
    COMPONENT_FIELDS,
    CONTROLLER_FIELDS,
    CONTROLLER_ITEM_FIELDS,
    DEVICE_FIELDS,
    GROUP_FIELDS,
    NAMED_FIELDS,
    PATH_FIELDS,
    STRANGER_FIELDS,
    TRAFFIC_FIELDS,
)

PORTS = """FROM inventory_interface gi JOIN inventory_device gd ON gd.id = gi.device_id
    LEFT JOIN inventory_site gs ON gs.id = gd.site_id LEFT JOIN inventory_profile gp ON gp.id = gd.profile_id
    LEFT JOIN readings_newest gn ON gn.interface_id = gi.id
    WHERE gi.gone_at IS NULL AND gd.retired_at IS NULL"""
EXPORTING = f"{PORTS} AND gd.id IN (SELECT device_id FROM flows_exporter)"
STRANGERS = "FROM flows_stranger gx JOIN flows_addresslist gk ON gk.id = gx.known_id WHERE gx.accepted_at IS NULL AND gk.enabled"
OF_DEVICE = """CROSS JOIN (SELECT '{}'::jsonb AS tags) gi
    LEFT JOIN inventory_site gs ON gs.id = gd.site_id LEFT JOIN inventory_profile gp ON gp.id = gd.profile_id"""
"""Devices have no tags of a port; with none of them they are asked by the same words."""
DEVICES = f"FROM inventory_device gd {OF_DEVICE} WHERE gd.retired_at IS NULL AND gd.enabled"
COMPONENTS = f"""FROM inventory_component gc JOIN inventory_device gd ON gd.id = gc.device_id {OF_DEVICE}
    WHERE gc.gone_at IS NULL AND gd.retired_at IS NULL AND gd.enabled"""
CONTROLLERS = "FROM controllers_controller gu WHERE gu.enabled"
CONTROLLER_ITEMS = """FROM controllers_controlleritem ge JOIN controllers_controller gu ON gu.id = ge.controller_id
    LEFT JOIN inventory_device gd ON gd.id = ge.device_id LEFT JOIN inventory_site gs ON gs.id = gd.site_id
    WHERE ge.gone_at IS NULL AND gu.enabled AND ge.kind IN ('device', 'transport', 'tunnel')"""
PATHS = """FROM paths_path gq LEFT JOIN inventory_site gs ON gs.id = gq.from_site_id
    LEFT JOIN inventory_site gz ON gz.id = gq.to_site_id
    LEFT JOIN paths_serviceclass gl ON gl.id = gq.service_class_id LEFT JOIN paths_transport gv ON gv.id = gq.transport_id WHERE gq.enabled"""
COLUMNS = {
    **{name: f"gi.{name}" for name in ("label", "alias", "name", "descr", "role", "neighbour", "neighbour_kind")},
    **{name: f"gd.{name}" for name in ("maker", "model")},
    "device": "gd.name",
    "site": "coalesce(gs.name, '')",
    "profile": "coalesce(gp.name, '')",
    "kind": "coalesce(gp.kind, '')",
    "speed": "coalesce(gn.port_bps, 0)",
    "address": "gd.address",
    "component": "gc.name",
    "part": "gc.kind",
    "group": "gg.name",
    "traffic": "gt.name",
    "path": "gq.name",
    "goal": "coalesce(gz.name, '')",
    "probe": "gq.kind",
    "class": "coalesce(gl.name, '')",
    "provider": "coalesce(gv.provider, '')",
    "list": "gk.name",
    "controller": "gu.name",
    "called": "ge.name",
    "told": "ge.kind",
}
ADDRESS = r"^(((25[0-5]|2[0-4]\d|1?\d?\d)\.){3}(25[0-5]|2[0-4]\d|1?\d?\d)|[0-9A-Fa-f]{0,4}(:[0-9A-Fa-f]{0,4}){2,7})$"
HAS = {
    "tag": """EXISTS (SELECT 1 FROM jsonb_each_text(gd.tags || gi.tags) tag
        WHERE lower(tag.key) = ANY({words}) OR lower(tag.key || '=' || tag.value) = ANY({words}))""",
    "group": """EXISTS (SELECT 1 FROM inventory_device_groups dg JOIN inventory_group g ON g.id = dg.group_id
        WHERE dg.device_id = gd.id AND lower(g.name) = ANY({words}))""",
    "path_group": "EXISTS (SELECT 1 FROM unnest(gq.groups) word WHERE lower(word) = ANY({words}))",
}


def as_sql(tree: Tree, values: dict[str, Any]) -> str:
    """A condition over GROUP_FIELDS as PostgreSQL asks it of PORTS, DEVICES or COMPONENTS; its parameters are added to ``values``."""
    match tree:
        case Both(parts):
            return "(" + (" AND ".join(as_sql(part, values) for part in parts) or "true") + ")"
        case Either(parts):
            return "(" + " OR ".join(as_sql(part, values) for part in parts) + ")"
        case Not(part):
            return f"NOT {as_sql(part, values)}"
        case Ask():
            return f"NOT ({_asked(tree, values)})" if tree.negated else f"({_asked(tree, values)})"


def _asked(ask: Ask, values: dict[str, Any]) -> str:
    name = f"asked{len(values)}"
    given = f"%({name})s"
    words = [value.lower() for value in ask.values]
    if ask.field.kind == Kind.WORDS:
        values[name] = words
        return HAS[ask.field.name].format(words=given)
    column = COLUMNS[ask.field.name]
    if ask.field.kind == Kind.NUMBER:
        values[name] = [quantity(value) for value in ask.values]
        return f"{column} {'=' if ask.verb == 'is' else ask.verb} ANY({given}::float8[])"
    if ask.field.kind == Kind.ADDRESS:
        values[name] = list(ask.values)
        # A device may have a name instead of an address, which lies in no prefix.
        return f"CASE WHEN {column} ~ '{ADDRESS}' THEN {column}::inet <<= ANY({given}::inet[]) ELSE false END"
    values[name] = words if ask.verb == "is" else [_pattern(word) for word in words]
    return f"lower({column}) {'=' if ask.verb == 'is' else 'LIKE'} ANY({given})"


def _pattern(word: str) -> str:
    """What LIKE takes for ``*`` and ``?``."""
    for letter in "\\%_":
        word = word.replace(letter, "\\" + letter)
    return word.replace("*", "%").replace("?", "_")


@dataclass(frozen=True, slots=True)
class Subjects:
    """A kind of subject: where they are, their number, what they are called, and what a condition can ask of them."""

    tables: str
    number: str
    label: str
    fields: tuple[Field, ...]
    noun: str
    device: str = "gd.name"
    interval: str = "gd.interval_s"


KINDS = {
    "interface": Subjects(PORTS, "gi.id", "gi.label", GROUP_FIELDS, "port"),
    "device": Subjects(DEVICES, "gd.id", "gd.address", DEVICE_FIELDS, "device"),
    "component": Subjects(COMPONENTS, "gc.id", "gc.name", COMPONENT_FIELDS, "component"),
    "link": Subjects(PORTS, "gi.id", "gi.label", GROUP_FIELDS, "link", interval="60"),
    "bridge": Subjects(DEVICES, "gd.id", "gd.address", DEVICE_FIELDS, "bridge", interval="60"),
    "group": Subjects("FROM inventory_group gg WHERE true", "gg.id", "gg.name", NAMED_FIELDS, "group", "''", "60"),
    "flow_port": Subjects(EXPORTING, "gi.id", "gi.label", GROUP_FIELDS, "port", interval="60"),
    "stranger": Subjects(STRANGERS, "gx.id", "gx.id::text", STRANGER_FIELDS, "stranger", "gk.name", "60"),
    "controller": Subjects(CONTROLLERS, "gu.id", "gu.name", CONTROLLER_FIELDS, "controller", "''", "60"),
    "controller_item": Subjects(
        CONTROLLER_ITEMS, "ge.id", "ge.name", CONTROLLER_ITEM_FIELDS, "part of an overlay", "gu.name", "60"
    ),
    "path": Subjects(PATHS, "gq.id", "gq.name", PATH_FIELDS, "path", "''", "60"),
    "traffic": Subjects(
        "FROM flows_watchedtraffic gt WHERE true", "gt.id", "gt.name", TRAFFIC_FIELDS, "watched traffic", "''", "60"
    ),
}


NOT_POLLED = ("group", "traffic", "path", "stranger", "controller", "controller_item")
"""Kinds that no device is asked about."""


def subjects_for(kind: str, condition: str) -> set[int]:
    """The subjects of a kind for which a condition holds now.

    Raises
    ------
    ConditionError
    """
    return {int(row[0]) for row in _asked_of(kind, KINDS[kind].number, condition)}


def holds_for(kind: str, condition: str, number: int) -> bool:
    """Whether a condition holds now for one subject.

    Raises
    ------
    ConditionError
    """
    known = KINDS[kind]
    return bool(_asked_of(kind, known.number, condition, f"AND {known.number} = %(number)s", number=number))


def slowest_for(kind: str, condition: str) -> tuple[str, int] | None:
    """The device that is polled least often among those of the subjects for which a condition holds: its name, and seconds.

    Raises
    ------
    ConditionError
    """
    known = KINDS[kind]
    polled = "" if kind in NOT_POLLED else "AND gd.enabled"
    columns = f"{known.device if polled else known.label}, {known.interval}"
    rows = _asked_of(kind, columns, condition, f"{polled} ORDER BY 2 DESC, 1 LIMIT 1")
    return rows[0] if rows else None


def preview(kind: str, condition: str, examples: int = 8) -> tuple[int, list[tuple[str, str]]]:
    """For how many subjects a condition holds now, and the first of these: device and label.

    Raises
    ------
    ConditionError
    """
    known = KINDS[kind]
    columns = f"{known.device}, {known.label}, count(*) OVER ()"
    rows = _asked_of(kind, columns, condition, f"ORDER BY 1, {known.number} LIMIT %(examples)s", examples=examples)
    return (int(rows[0][2]) if rows else 0), [(device, label) for device, label, _ in rows]


def _asked_of(kind: str, columns: str, condition: str, more: str = "", **values: Any) -> list[tuple[Any, ...]]:
    known = KINDS[kind]
    held = as_sql(understand(condition, known.fields).tree, values)
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT {columns} {known.tables} AND {held} {more}", values)
        rows: list[tuple[Any, ...]] = cursor.fetchall()
    return rows
