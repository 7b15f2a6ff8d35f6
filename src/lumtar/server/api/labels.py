"""Label rules, the source of a device's labels, and who decided what for a port."""

from datetime import datetime

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Status

from lumtar.core.labels import PORT_FIELDS, USUAL, Role, check_template, weigh
from lumtar.domain.inventory import labelling
from lumtar.domain.inventory.jobs import label_all
from lumtar.domain.inventory.labelling import Labeller, LabelRuleSpec
from lumtar.domain.inventory.models import Device, Interface, LabelRule
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.conditions import ConditionField, fields_out
from lumtar.server.api.credentials import Order
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["labels"])
SIDE_BY_SIDE = 12


class LabelRuleIn(Schema):
    """What ports that meet a condition are given; what is empty is not decided by this rule."""

    name: str
    condition: str = ""
    role: str = ""
    template: str = ""
    tags: dict[str, str] = {}


class LabelRuleChange(LabelRuleIn):
    """A change of a rule of this edition."""

    edition: int


class LabelRuleOut(LabelRuleIn):
    """A label rule."""

    model_config = ALWAYS

    id: int
    edition: int
    changed_at: datetime
    changed_by: str


class LabelRulesOut(Schema):
    """The rules in their order, and what they can be made of."""

    rows: list[LabelRuleOut]
    roles: list[str]
    fields: list[ConditionField]
    usual: str


class LabelRuleTried(LabelRuleIn):
    """A rule to be tried: in the place of a kept one, or as a new one at the end."""

    id: int = 0


class Example(Schema):
    """A port that a rule would change."""

    device: str
    label: str
    label_then: str
    role_then: str


class EffectOut(Schema):
    """For how many ports a condition holds, how many would change, and the first of these."""

    matched: int
    changed: int
    examples: list[Example]


class CandidateOut(Schema):
    """A template as it works for a device, with its labels for the first ports."""

    template: str
    named: int
    apart: int
    labels: list[str]


class SourcesOut(Schema):
    """Where a device's labels could come from, the proposal first; ``template`` is its own, if it has one."""

    template: str
    in_force: str
    ports: int
    names: list[str]
    candidates: list[CandidateOut]


class DecidedOut(Schema):
    """What a port is called and is for, who decided it, and what somebody decided for it alone."""

    label: str
    role: str
    tags: dict[str, str]
    label_by: str
    role_by: str
    tags_by: dict[str, str]
    own_label: str | None
    own_role: str | None
    own_tags: dict[str, str]
    roles: list[str]


class OwnIn(Schema):
    """What is decided for one port alone; null leaves it to the rules."""

    label: str | None = None
    role: str | None = None
    tags: dict[str, str] = {}


def _out(rule: LabelRule) -> LabelRuleOut:
    return LabelRuleOut(id=rule.pk, **{name: getattr(rule, name) for name in LabelRuleOut.model_fields if name != "id"})


def _spec(body: LabelRuleIn) -> LabelRuleSpec:
    return LabelRuleSpec(**body.model_dump(include=set(LabelRuleIn.model_fields)))


@router.get("/labelrules", needs=VIEWER, response=LabelRulesOut)
def list_rules(request: HttpRequest) -> LabelRulesOut:
    """All of them, in the order of deciding."""
    rows = [_out(rule) for rule in LabelRule.objects.all()]
    return LabelRulesOut(rows=rows, roles=list(Role), fields=fields_out(PORT_FIELDS), usual=USUAL)


@router.post("/labelrules", needs=ENGINEER.everywhere, response={201: LabelRuleOut})
def make_rule(request: HttpRequest, body: LabelRuleIn) -> Status[LabelRuleOut]:
    """A new one, at the end; the ports are labelled anew within seconds."""
    with refusing():
        made = labelling.save_rule(_spec(body), request.user.get_username())
    label_all.defer()
    return Status(201, _out(made))


@router.put("/labelrules/order", needs=ENGINEER.everywhere, response=LabelRulesOut)
def order_rules(request: HttpRequest, body: Order) -> LabelRulesOut:
    """The order of deciding."""
    with refusing(409):
        labelling.order_rules(body.ids, request.user.get_username())
    label_all.defer()
    return list_rules(request)


@router.put("/labelrules/{int:rule}", needs=ENGINEER.everywhere, response=LabelRuleOut)
def change_rule(request: HttpRequest, rule: int, body: LabelRuleChange) -> LabelRuleOut:
    """Change a label rule; the ports are labelled anew within seconds."""
    with refusing():
        changed = labelling.save_rule(_spec(body), request.user.get_username(), rule, body.edition)
    label_all.defer()
    return _out(changed)


@router.delete("/labelrules/{int:rule}", needs=ENGINEER.everywhere, response={204: None})
def delete_rule(request: HttpRequest, rule: int) -> Status[None]:
    """Delete a label rule; the ports are labelled anew within seconds."""
    labelling.delete_rule(rule, request.user.get_username())
    label_all.defer()
    return Status(204, None)


@router.post("/labelrules/try", needs=ENGINEER.everywhere, response=EffectOut)
def try_rule(request: HttpRequest, body: LabelRuleTried) -> EffectOut:
    """What a rule would do; nothing is changed."""
    with refusing():
        rule = labelling.checked_rule(_spec(body), body.id)
    ids = list(LabelRule.objects.values_list("pk", flat=True))
    place = ids.index(body.id) if body.id in ids else len(ids)
    effect = labelling.preview(rule, place)
    examples = [Example(device=d, label=now, label_then=then, role_then=role) for d, now, then, role in effect.examples]
    return EffectOut(matched=effect.matched, changed=effect.changed, examples=examples)


@router.get("/devices/{int:device}/labels", needs=VIEWER, response=SourcesOut)
def label_sources(request: HttpRequest, device: int, template: str = "") -> SourcesOut:
    """The sources of labels side by side for a device's real ports; another template can be looked at beside them."""
    row = get_object_or_404(Device.objects.select_related("site", "profile"), pk=device)
    with refusing():
        also = [check_template(template)] if template.strip() else []
    ports = list(row.interfaces.filter(gone_at=None).order_by("if_index"))
    in_force = row.label_template or (row.profile.label_template if row.profile else "") or USUAL
    candidates = weigh([Labeller.values(port, row, 0) for port in ports], [in_force, *also])
    # Ports that differ tell more than a row of equal ones: those that people named come first.
    shown = sorted(range(len(ports)), key=lambda n: (not (ports[n].alias or ports[n].label != ports[n].name), n))
    shown = sorted(shown[:SIDE_BY_SIDE])
    return SourcesOut(
        template=row.label_template,
        in_force=in_force,
        ports=len(ports),
        names=[f"{ports[n].if_index}" for n in shown],
        candidates=[
            CandidateOut(template=c.template, named=c.named, apart=c.apart, labels=[c.labels[n] for n in shown])
            for c in candidates
        ],
    )


def _decided(port: int) -> DecidedOut:
    interface = get_object_or_404(Interface, pk=port)
    decided = labelling.explain(port)
    same = ("label", "role", "tags", "label_by", "role_by", "tags_by")
    return DecidedOut(
        own_label=interface.own_label,
        own_role=interface.own_role,
        own_tags=interface.own_tags,
        roles=list(Role),
        **{name: getattr(decided, name) for name in same},
    )


@router.get("/interfaces/{int:interface}/decided", needs=VIEWER, response=DecidedOut)
def decided(request: HttpRequest, interface: int) -> DecidedOut:
    """Who decided what a port is called and is for."""
    return _decided(interface)


@router.put("/interfaces/{int:interface}/decided", needs=ENGINEER, response=DecidedOut)
def overrule(request: HttpRequest, interface: int, body: OwnIn) -> DecidedOut:
    """Set the label or role of one port, or leave it to the rules again."""
    with refusing():
        labelling.overrule(interface, body.label, body.role, body.tags, request.user.get_username())
    return _decided(interface)
