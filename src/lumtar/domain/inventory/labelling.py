"""Label rules carried out: what ports are called and are for, and who decided it."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.db import transaction

from lumtar.core import conditions
from lumtar.core.labels import LONGEST, PORT_FIELDS, Decided, LabelRule, Own, Role, check_template, decide, type_name
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory import models
from lumtar.domain.inventory.models import Device, Interface, InterfaceSpeed, LabelRun
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark, put_in_order
from lumtar.domain.operation.services import announce

CHUNK = 5000


def _ready(rule: models.LabelRule) -> LabelRule:
    condition = conditions.understand(rule.condition, PORT_FIELDS)
    return LabelRule(rule.pk, rule.name, condition, rule.role, rule.template, rule.tags)


class Labeller:
    """The label rules in force, ready to decide."""

    def __init__(self, rules: Sequence[LabelRule] | None = None) -> None:
        self.rules = [_ready(rule) for rule in models.LabelRule.objects.all()] if rules is None else list(rules)

    @staticmethod
    def values(port: Interface, device: Device, speed_bps: int) -> dict[str, Any]:
        """What rules can ask of a port. The device comes with its site and its profile."""
        profile = device.profile
        return {
            "alias": port.alias,
            "name": port.name,
            "descr": port.descr,
            "index": str(port.if_index),
            "mac": port.mac,
            "type": type_name(port.if_type),
            "speed": float(speed_bps),
            "device": device.name,
            "site": device.site.name if device.site else "",
            "maker": device.maker,
            "model": device.model,
            "profile": profile.name if profile else "",
            "kind": profile.kind if profile else "",
            "neighbour": port.neighbour,
            "neighbour_kind": port.neighbour_kind,
        }

    def decide(self, port: Interface, device: Device, speed_bps: int) -> Decided:
        """What a port is called and is for."""
        profile_template = device.profile.label_template if device.profile else ""
        own = Own(port.own_label, port.own_role, port.own_tags)
        values = self.values(port, device, speed_bps)
        return decide(values, self.rules, own, device.label_template, profile_template)


@dataclass(frozen=True, slots=True)
class Effect:
    """What a rule would do: how many ports its condition holds for, how many would change, and some of these."""

    matched: int
    changed: int
    examples: list[tuple[str, str, str, str]]
    """Device, label now, label then, role then."""


def _ports(only: Iterable[int] | None = None, devices: Iterable[int] | None = None) -> Any:
    ports = Interface.objects.filter(gone_at=None, device__retired_at=None)
    if only is not None:
        ports = ports.filter(pk__in=only)
    if devices is not None:
        ports = ports.filter(device_id__in=devices)
    return ports.order_by("device_id", "if_index")


def _speeds(ports: Sequence[Interface]) -> dict[int, int]:
    speeds = InterfaceSpeed.objects.filter(interface_id__in=[port.pk for port in ports])
    newest = speeds.order_by("interface_id", "-since").distinct("interface_id")
    return dict(newest.values_list("interface_id", "port_bps"))


def _devices(ports: Sequence[Interface]) -> dict[int, Device]:
    return Device.objects.select_related("site", "profile").in_bulk({port.device_id for port in ports})


def _chunks(ports: Any) -> Iterable[list[Interface]]:
    keys = list(ports.values_list("pk", flat=True))
    for start in range(0, len(keys), CHUNK):
        yield list(ports.filter(pk__in=keys[start : start + CHUNK]))


def label_ports(only: Iterable[int] | None = None, devices: Iterable[int] | None = None) -> tuple[int, int]:
    """Decide anew what ports are called and are for; all of them unless some are named.

    Returns
    -------
    how many were looked at, and how many changed
    """
    labeller = Labeller()
    looked = changed = 0
    for ports in _chunks(_ports(only, devices)):
        renewed, known, speeds = [], _devices(ports), _speeds(ports)
        looked += len(ports)
        for port in ports:
            decided = labeller.decide(port, known[port.device_id], speeds.get(port.pk) or 0)
            if take_over(port, decided):
                renewed.append(port)
        changed += len(renewed)
        # An upsert of known rows: Django's bulk_update costs a hundred times as much.
        Interface.objects.bulk_create(
            renewed, update_conflicts=True, unique_fields=["id"], update_fields=["label", "role", "tags"]
        )
    LabelRun.objects.create(looked=looked, changed=changed)
    announce("devices")
    return looked, changed


def take_over(port: Interface, decided: Decided) -> bool:
    """Write a decision into a port; whether that changed it."""
    tags = dict(decided.tags)
    if (port.label, port.role, port.tags) == (decided.label, decided.role, tags):
        return False
    port.label, port.role, port.tags = decided.label, decided.role, tags
    return True


def preview(rule: LabelRule, place: int, examples: int = 8) -> Effect:
    """What a rule would do if it stood at this place among the others; nothing is changed."""
    others = [each for each in Labeller().rules if each.number != rule.number]
    labeller = Labeller([*others[:place], rule, *others[place:]])
    matched = changed = 0
    shown: list[tuple[str, str, str, str]] = []
    for ports in _chunks(_ports()):
        known, speeds = _devices(ports), _speeds(ports)
        for port in ports:
            device, speed = known[port.device_id], speeds.get(port.pk) or 0
            decided = labeller.decide(port, device, speed)
            matched += rule.condition({**labeller.values(port, device, speed), "label": decided.label})
            if (port.label, port.role, port.tags) != (decided.label, decided.role, dict(decided.tags)):
                changed += 1
                if len(shown) < examples:
                    shown.append((device.name, port.label, decided.label, decided.role))
    return Effect(matched, changed, shown)


def explain(pk: int) -> Decided:
    """Who decided what for a port, by the rules in force.

    Raises
    ------
    Interface.DoesNotExist
    """
    port = Interface.objects.select_related("device__site", "device__profile").get(pk=pk)
    return Labeller().decide(port, port.device, _speeds([port]).get(pk) or 0)


def checked_role(role: str) -> str:
    """A role, or nothing.

    Raises
    ------
    Refusal
    """
    if role and role not in set(Role):
        raise Refusal(f"A role is one of {', '.join(Role)}, not “{role[:30]}”.")
    return role


def checked_tags(tags: Mapping[str, str]) -> dict[str, str]:
    """Tags of ports.

    Raises
    ------
    Refusal
    """
    stripped = {key.strip(): value.strip() for key, value in tags.items()}
    if len(stripped) > 20 or any(not 1 <= len(key) <= 60 or len(value) > 200 for key, value in stripped.items()):
        raise Refusal("A port has at most 20 tags, of at most 60 characters with values of at most 200.")
    return stripped


@transaction.atomic
def overrule(pk: int, label: str | None, role: str | None, tags: Mapping[str, str], by: str) -> None:
    """Decide for one port alone what it is called and is for; None leaves it to the rules again.

    Raises
    ------
    Refusal, Interface.DoesNotExist
    """
    port = Interface.objects.select_for_update(of=("self",)).select_related("device").get(pk=pk)
    before = port.label
    if label is not None and not 1 <= len(label.strip()) <= LONGEST:
        raise Refusal(f"A label has 1 to {LONGEST} characters.")
    port.own_label = None if label is None else " ".join(label.split())
    port.own_role = None if role is None else checked_role(role)
    port.own_tags = checked_tags(tags)
    port.save(update_fields=["own_label", "own_role", "own_tags"])
    label_ports(only=[pk])
    own = [f"label {port.own_label}"] if port.own_label is not None else []
    own += [f"role {port.own_role or 'none'}"] if port.own_role is not None else []
    own += [f"{key}={value}" for key, value in port.own_tags.items()]
    note_action(
        f"{before}: {', '.join(own)}, decided for this port" if own else f"{before}: left to the rules",
        by,
        interface=port,
    )


@dataclass(frozen=True, slots=True)
class LabelRuleSpec:
    """A label rule as somebody wrote it."""

    name: str
    condition: str = ""
    role: str = ""
    template: str = ""
    tags: Mapping[str, str] | None = None


def checked_rule(spec: LabelRuleSpec, number: int = 0) -> LabelRule:
    """A label rule that can be kept.

    Raises
    ------
    Refusal
        with a sentence for the person who wrote it
    """
    name = spec.name.strip()
    if not 1 <= len(name) <= 80:
        raise Refusal("A rule's name has 1 to 80 characters.")
    template = check_template(spec.template) if spec.template.strip() else ""
    tags = checked_tags(spec.tags or {})
    if not (spec.role or template or tags):
        raise Refusal("The rule decides nothing yet: give it a role, a template or a tag.")
    condition = conditions.understand(spec.condition, PORT_FIELDS)
    return LabelRule(number, name, condition, checked_role(spec.role), template, tags)


@transaction.atomic
def save_rule(spec: LabelRuleSpec, by: str, pk: int | None = None, edition: int = 0) -> models.LabelRule:
    """Keep a new rule, at the end, or a changed one. The ports are labelled by :func:`label_ports`, which the caller starts.

    Raises
    ------
    Refusal, Stale, LabelRule.DoesNotExist
    """
    rule = checked_rule(spec)
    stored = (
        models.LabelRule(place=models.LabelRule.objects.count()) if pk is None else claim(models.LabelRule, pk, edition)
    )
    stored.name, stored.condition, stored.role = rule.name, rule.condition.text, rule.role
    stored.template, stored.tags = rule.template, dict(rule.tags)
    mark(stored, by)
    note_action(f"label rule {stored.name} {'created' if pk is None else 'changed'}", by)
    return stored


@transaction.atomic
def delete_rule(pk: int, by: str) -> None:
    """Delete a rule.

    Raises
    ------
    LabelRule.DoesNotExist
    """
    rule = models.LabelRule.objects.get(pk=pk)
    rule.delete()
    note_action(f"label rule {rule.name} deleted", by)


@transaction.atomic
def order_rules(ids: Sequence[int], by: str) -> None:
    """Put the rules in this order.

    Raises
    ------
    Refusal
    """
    put_in_order(models.LabelRule, ids)
    note_action("label rules put in another order", by)


def uses_neighbours() -> bool:
    """Whether a rule asks for neighbours, so that ports are to be labelled anew when theirs change."""
    return models.LabelRule.objects.filter(condition__contains="neighbour").exists()


def uses_speed() -> bool:
    """Whether a rule asks for the speed of ports, so that ports are to be labelled anew when theirs changes."""
    return models.LabelRule.objects.filter(condition__contains="speed").exists()
