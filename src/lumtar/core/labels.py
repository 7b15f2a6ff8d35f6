"""What ports are called, and what they are for: templates, proposals and label rules."""

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from lumtar.core.conditions import Condition, Field, Kind
from lumtar.core.refusal import Refusal


class Role(StrEnum):
    """What an interface is for."""

    UPLINK = "uplink"
    TRUNK = "trunk"
    ACCESS = "access"
    WAN = "wan"
    TUNNEL = "tunnel"
    AGGREGATE = "aggregate"
    MANAGEMENT = "management"
    STORAGE = "storage"
    UNUSED = "unused"


QUIET = frozenset({Role.ACCESS, Role.UNUSED})
"""Roles whose ports are drawn, but whose ups, downs and speeds are not news."""

IF_TYPES = {
    6: "ethernet",
    24: "loopback",
    53: "virtual",
    56: "fibre channel",
    71: "wireless",
    131: "tunnel",
    135: "vlan",
    136: "routed vlan",
    161: "aggregate",
    166: "mpls",
    209: "bridge",
    243: "cellular",
    244: "cellular",
}
"""Names of IANAifType values that rules are written for; another one is "type" and its number."""

SOURCES = ("alias", "name", "descr", "index", "mac")
USUAL = "{alias|name|descr|index}"
"""The template in force where nobody chose another one."""
CANDIDATES = (
    "{alias}",
    "{alias|name}",
    "{alias|descr}",
    "{descr}",
    "{descr|name}",
    "{name}",
    "{name} {alias}",
    "{descr} {alias}",
    "{name} ({index})",
    "{index}",
)
"""What is weighed for a device; of equal ones the first is proposed."""
LONGEST = 255
_SLOT = re.compile(r"\{([^{}]*)\}")

PORT_FIELDS = (
    Field("label", Kind.TEXT, "what the port is called"),
    Field("alias", Kind.TEXT, "ifAlias"),
    Field("name", Kind.TEXT, "ifName"),
    Field("descr", Kind.TEXT, "ifDescr"),
    Field("type", Kind.TEXT, "ethernet, tunnel, aggregate, fibre channel …"),
    Field("speed", Kind.NUMBER, "of the port, in bits per second: 100M, 10G"),
    Field("device", Kind.TEXT, "the device's name"),
    Field("site", Kind.TEXT, "the device's site"),
    Field("maker", Kind.TEXT, "the device's maker"),
    Field("model", Kind.TEXT, "the device's model"),
    Field("profile", Kind.TEXT, "the device's profile"),
    Field("kind", Kind.TEXT, "the profile's kind: switch, router, firewall …"),
    Field("neighbour", Kind.TEXT, "the device at the other end, by its name"),
    Field("neighbour_kind", Kind.TEXT, "what that is, if it is in the inventory: switch, router …"),
)


def type_name(if_type: int) -> str:
    """The word for an IANAifType."""
    return IF_TYPES.get(if_type, f"type {if_type}")


def check_template(template: str) -> str:
    """A template as it is kept: text with slots like ``{name}``, or ``{alias|name}`` for the first that is not empty.

    Raises
    ------
    Refusal
        with a sentence for the person who wrote it
    """
    kept = template.strip()
    if len(kept) > 120:
        raise Refusal("A template has at most 120 characters.")
    slots = _SLOT.findall(kept)
    if "{" in _SLOT.sub("", kept) or "}" in _SLOT.sub("", kept):
        raise Refusal("A brace in the template has no partner.")
    if not slots:
        raise Refusal(f"A template holds at least one of {', '.join('{' + each + '}' for each in SOURCES)}.")
    for name in (name for slot in slots for name in slot.split("|")):
        if name not in SOURCES:
            raise Refusal(f"“{name[:40]}” is nothing that a port says; there are {', '.join(SOURCES)}.")
    return kept


def fill(template: str, port: Mapping[str, str]) -> str:
    """A port's label; it is never empty, since the number is always there.

    Parameters
    ----------
    port : what it says: a text for each of ``SOURCES``, which may be empty
    """
    label = " ".join(_SLOT.sub(lambda slot: _first(slot[1], port), template).split())[:LONGEST]
    return label or f"port {port.get('index', '')}"


def _first(slot: str, port: Mapping[str, str]) -> str:
    field = next((name for name in slot.split("|") if port.get(name)), "")
    # A bare number says nothing of what it counts.
    return f"port {port['index']}" if field == "index" and "|" in slot else port.get(field, "")


@dataclass(frozen=True, slots=True)
class Candidate:
    """A template as it would work for a device.

    Attributes
    ----------
    named : ports for which it is not empty
    apart : ports that it calls as no other one
    said : different things that it says beside name and number, which people must have written
    """

    template: str
    named: int
    apart: int
    said: int
    labels: list[str]


def weigh(ports: Sequence[Mapping[str, str]], also: Sequence[str] = ()) -> list[Candidate]:
    """How well each template tells the ports apart, and how much it says; the proposal first, no two that are alike.

    Parameters
    ----------
    also : templates to weigh beside the usual candidates
    """
    best: dict[tuple[str, ...], tuple[int, Candidate]] = {}
    order = {template: place for place, template in enumerate(CANDIDATES)}
    for template in dict.fromkeys([*also, *CANDIDATES]):
        filled = [bool(_SLOT.sub(lambda slot, port=port: _first(slot[1], port), template).strip()) for port in ports]  # type: ignore[misc]
        labels = [fill(template, port) for port in ports]
        often = Counter(label for label, is_filled in zip(labels, filled, strict=True) if is_filled)
        said = {_beside(label, port) for label, port in zip(labels, ports, strict=True)} - {""}
        apart = sum(1 for count in often.values() if count == 1)
        candidate = Candidate(template, sum(filled), apart, len(said), labels)
        place, first = best.get(tuple(labels), (len(order), candidate))
        best[tuple(labels)] = min(place, order.get(template, len(order))), first
    ranked = sorted(best.values(), key=lambda each: (-each[1].apart, -each[1].said, each[0]))
    return [candidate for _, candidate in ranked]


def _beside(label: str, port: Mapping[str, str]) -> str:
    """What a label says beside the port's name and number."""
    name = port.get("name", "")
    rest = label.removeprefix("port ").replace(name, " ") if name else label.removeprefix("port ")
    return rest.strip(" ()-0123456789").casefold()


@dataclass(frozen=True, slots=True)
class LabelRule:
    """What ports that meet a condition are given. An empty outcome decides nothing of its kind."""

    number: int
    name: str
    condition: Condition
    role: str = ""
    template: str = ""
    tags: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Own:
    """What somebody decided for one port alone; None leaves it to the rules."""

    label: str | None = None
    role: str | None = None
    tags: Mapping[str, str] | None = None


@dataclass(frozen=True, slots=True)
class Decided:
    """What a port is called and is for, and who decided each: in words, for people."""

    label: str
    role: str
    tags: Mapping[str, str]
    label_by: str
    role_by: str
    tags_by: Mapping[str, str]


def decide(
    port: Mapping[str, Any],
    rules: Sequence[LabelRule],
    own: Own = Own(),
    device_template: str = "",
    profile_template: str = "",
) -> Decided:
    """Label, role and tags of a port. The first rule that holds decides each; what somebody said of the port goes first.

    For its label: the port's own, the device's template, the first rule with one, the profile's, the usual one.
    A rule that gives a template sees the label that the port would have without it.

    Parameters
    ----------
    port : a value for each of ``PORT_FIELDS`` but the label, and of ``SOURCES``
    """
    template, label_by = device_template, "the device's template"
    if not template:
        template, label_by = profile_template, "the profile's template"
    if not template:
        template, label_by = USUAL, "the usual template"
    label = fill(template, port)
    if own.label is not None:
        label, label_by = own.label, "somebody, for this port"
    elif not device_template:
        plain = {**port, "label": label}
        chosen = next((rule for rule in rules if rule.template and rule.condition(plain)), None)
        if chosen is not None:
            label, label_by = fill(chosen.template, port), f"the rule “{chosen.name}”"
    values = {**port, "label": label}
    role, role_by = "", "no rule"
    tags: dict[str, str] = {}
    tags_by: dict[str, str] = {}
    for rule in rules:
        if not ((rule.role and not role) or rule.tags) or not rule.condition(values):
            continue
        if rule.role and not role:
            role, role_by = rule.role, f"the rule “{rule.name}”"
        for key, value in rule.tags.items():
            if key not in tags:
                tags[key], tags_by[key] = value, f"the rule “{rule.name}”"
    if own.role is not None:
        role, role_by = own.role, "somebody, for this port"
    for key, value in (own.tags or {}).items():
        tags[key], tags_by[key] = value, "somebody, for this port"
    return Decided(label, role, {key: value for key, value in tags.items() if value}, label_by, role_by, tags_by)
