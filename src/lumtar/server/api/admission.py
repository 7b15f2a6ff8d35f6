"""Admission rules: what is done with what sweeps find."""

from datetime import datetime

from django.http import HttpRequest
from ninja import Status

from lumtar.core.admission import FOUND_FIELDS, Outcome
from lumtar.domain.sweeps import admission
from lumtar.domain.sweeps.admission import AdmissionRuleSpec
from lumtar.domain.sweeps.models import AdmissionRule
from lumtar.server.api.access import ENGINEER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.conditions import ConditionField, fields_out
from lumtar.server.api.credentials import Order
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["sweeps"])


class AdmissionIn(Schema):
    """What is done with something new that meets a condition; profile and credential are numbers."""

    name: str
    condition: str = ""
    outcome: str = "hold"
    site: str = ""
    groups: list[str] = []
    tags: dict[str, str] = {}
    profile: int | None = None
    credential: int | None = None
    interval_s: int | None = None


class AdmissionChange(AdmissionIn):
    """A change of a rule of this edition."""

    edition: int


class AdmissionTried(AdmissionIn):
    """A rule to be tried: in the place of a kept one, or as a new one at the end."""

    id: int | None = None


class AdmissionOut(AdmissionIn):
    """An admission rule."""

    model_config = ALWAYS

    id: int
    edition: int
    changed_at: datetime
    changed_by: str


class Admissions(Schema):
    """The rules in their order, and what they can ask about."""

    rows: list[AdmissionOut]
    outcomes: list[str]
    fields: list[ConditionField]


class WouldOut(Schema):
    """What would be done with a finding, and by which rule."""

    id: int
    address: str
    name: str
    sweep: str
    device: str
    outcome: str
    rule: str


class DryRun(Schema):
    """What the rules would do with the last results."""

    rows: list[WouldOut]
    counts: dict[str, int]


def _rule(rule: AdmissionRule) -> AdmissionOut:
    same = [name for name in AdmissionOut.model_fields if name not in ("id", "site", "profile", "credential")]
    return AdmissionOut(
        id=rule.pk,
        site=rule.site.name if rule.site else "",
        profile=rule.profile_id,
        credential=rule.credential_id,
        **{name: getattr(rule, name) for name in same},
    )


def _spec(body: AdmissionIn) -> AdmissionRuleSpec:
    return AdmissionRuleSpec(**body.model_dump(include=set(AdmissionIn.model_fields)))


@router.get("/admissionrules", needs=ENGINEER.everywhere, response=Admissions)
def list_rules(request: HttpRequest) -> Admissions:
    """All of them, in the order of deciding."""
    rows = [_rule(rule) for rule in AdmissionRule.objects.select_related("site")]
    return Admissions(rows=rows, outcomes=list(Outcome), fields=fields_out(FOUND_FIELDS))


@router.post("/admissionrules", needs=ENGINEER.everywhere, response={201: AdmissionOut})
def make_rule(request: HttpRequest, body: AdmissionIn) -> Status[AdmissionOut]:
    """A new one, at the end; it decides from the next run on."""
    with refusing():
        return Status(201, _rule(admission.save(_spec(body), request.user.get_username())))


@router.put("/admissionrules/order", needs=ENGINEER.everywhere, response=Admissions)
def order_rules(request: HttpRequest, body: Order) -> Admissions:
    """The order of deciding."""
    with refusing(409):
        admission.reorder(body.ids, request.user.get_username())
    return list_rules(request)


@router.put("/admissionrules/{int:rule}", needs=ENGINEER.everywhere, response=AdmissionOut)
def change_rule(request: HttpRequest, rule: int, body: AdmissionChange) -> AdmissionOut:
    """Change an admission rule."""
    with refusing():
        return _rule(admission.save(_spec(body), request.user.get_username(), rule, body.edition))


@router.delete("/admissionrules/{int:rule}", needs=ENGINEER.everywhere, response={204: None})
def delete_rule(request: HttpRequest, rule: int) -> Status[None]:
    """Delete an admission rule."""
    admission.delete(rule, request.user.get_username())
    return Status(204, None)


def _dry_run(spec: AdmissionRuleSpec | None = None, pk: int | None = None) -> DryRun:
    with refusing():
        outcomes = admission.dry_run(spec, pk)
    counts = {str(outcome): 0 for outcome in Outcome}
    rows = []
    for would in outcomes:
        counts[would.outcome] += 1
        each = would.finding
        rows.append(
            WouldOut(
                id=each.pk,
                address=each.address,
                name=each.sys_name,
                sweep=each.sweep.name,
                device=each.device.name if each.device else "",
                outcome=would.outcome,
                rule=would.rule,
            )
        )
    return DryRun(rows=rows, counts=counts)


@router.get("/admissionrules/dryrun", needs=ENGINEER.everywhere, response=DryRun)
def dry_run(request: HttpRequest) -> DryRun:
    """What the rules as they are would do with the last results."""
    return _dry_run()


@router.post("/admissionrules/try", needs=ENGINEER.everywhere, response=DryRun)
def try_rule(request: HttpRequest, body: AdmissionTried) -> DryRun:
    """The same with a rule that is not kept yet."""
    return _dry_run(_spec(body), body.id)
