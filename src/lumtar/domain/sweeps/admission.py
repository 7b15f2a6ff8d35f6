"""What is done with what a sweep found: by admission rules, or by a person."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from django.db import transaction

from lumtar.core import conditions
from lumtar.core.admission import FOUND_FIELDS, Admission, Outcome, admit
from lumtar.core.devicelist import check_interval
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory import profiles
from lumtar.domain.inventory.labelling import checked_tags
from lumtar.domain.inventory.models import Credential, Device, Profile
from lumtar.domain.inventory.services import add_device, site_called
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark, put_in_order
from lumtar.domain.sweeps.models import AdmissionRule, Finding
from lumtar.domain.topology.queries import seen_by

NOBODY = "no rule"


@dataclass(frozen=True, slots=True)
class AdmissionRuleSpec:
    """An admission rule as somebody wrote it; profile and credential are numbers."""

    name: str
    condition: str = ""
    outcome: str = Outcome.HOLD
    site: str = ""
    groups: Sequence[str] = ()
    tags: Mapping[str, str] = field(default_factory=dict)
    profile: int | None = None
    credential: int | None = None
    interval_s: int | None = None


def ready() -> list[Admission]:
    """The rules in force, ready to decide."""
    return [_ready(rule) for rule in AdmissionRule.objects.all()]


def _ready(rule: AdmissionRule) -> Admission:
    condition = conditions.understand(rule.condition, FOUND_FIELDS)
    return Admission(rule.pk, rule.name, condition, Outcome(rule.outcome))


def values(finding: Finding) -> dict[str, Any]:
    """What a rule can ask of a finding."""
    same = [each.name for each in FOUND_FIELDS if each.name not in ("answered", "sweep", "neighbour")]
    return {
        **{name: getattr(finding, name) for name in same},
        "address": list(finding.reasons),
        "answered": set(finding.answered),
        "sweep": finding.sweep.name,
        "neighbour": seen_by(list(finding.reasons), finding.sys_name),
    }


@transaction.atomic
def decide(finding: Finding, rules: Sequence[Admission]) -> None:
    """Let the rules decide on a finding that is no device yet, unless a person did; the caller saves it."""
    if finding.device_id or finding.is_own:
        return
    rule = admit(values(finding), rules)
    finding.decision = rule.outcome if rule else Outcome.HOLD
    finding.decided_by = f"the rule “{rule.name}”" if rule else NOBODY
    finding.words = finding.words or ("" if rule else "no rule holds for it: decide yourself")
    if rule and rule.outcome is Outcome.ADD:
        given = AdmissionRule.objects.select_related("site", "profile", "credential").get(pk=rule.number)
        _add(finding, given, f"sweep {finding.sweep.name}")


def _add(finding: Finding, given: AdmissionRule, by: str) -> None:
    """Add what was found; if that is refused it is held, with the reason."""
    way = next((way for way in ("snmp", "icmp", "tcp") if way in finding.answered), Device.Way.ICMP)
    site = given.site or finding.sweep.site
    port = {"snmp": finding.sweep.port, "tcp": finding.tcp_port or 0, "icmp": 0}[way]
    try:
        if way == Device.Way.SNMP and not (given.credential or finding.credential):
            raise Refusal("The credential that it answered to is deleted; run the sweep again.")
        with transaction.atomic():
            device = add_device(
                finding.address,
                port=port,
                name=finding.sys_name[:120],
                site=site.name if site else "",
                way=way,
                credential=given.credential or finding.credential,
                interval_s=given.interval_s or profiles.USUAL_INTERVAL,
                groups=given.groups,
                tags=given.tags,
                by=by,
            )
            if given.profile:
                profiles.give(device, given.profile)
                device.save()
    except ValueError as error:
        finding.decision, finding.words = Outcome.HOLD, str(error)
        return
    finding.device, finding.decision, finding.words = device, Outcome.ADD, f"added as {device.name}"


@transaction.atomic
def decide_oneself(pk: int, outcome: str, by: str, **given: Any) -> Finding:
    """Decide on a finding as a person: add it (``given`` as for a rule), hold it, or ignore it.

    Raises
    ------
    Refusal
        with the reason why it cannot be added
    Finding.DoesNotExist
    """
    finding = Finding.objects.select_for_update(of=("self",)).select_related("sweep__site").get(pk=pk)
    if outcome not in set(Outcome):
        raise Refusal(f"What was found is one of: {', '.join(Outcome)}.")
    if finding.device_id:
        raise Refusal(f"It is a device already: {finding.device}.")
    finding.decision, finding.decided_by, finding.words = outcome, by, ""
    finding.is_own = outcome != Outcome.HOLD
    if outcome == Outcome.ADD:
        _add(finding, _checked(AdmissionRuleSpec(name=by or "somebody", outcome=Outcome.ADD, **given)), by)
        if finding.decision != Outcome.ADD:
            raise Refusal(finding.words)
    finding.save()
    return finding


@dataclass(frozen=True, slots=True)
class Would:
    """What would be done with a finding, and by which rule."""

    finding: Finding
    outcome: str
    rule: str


def dry_run(spec: AdmissionRuleSpec | None = None, pk: int | None = None) -> list[Would]:
    """What the rules would do with the last results; nothing is changed.

    Parameters
    ----------
    spec : a rule that is not kept yet, in the place of ``pk`` or at the end

    Raises
    ------
    Refusal
    """
    rules = ready()
    if spec is not None:
        draft = _checked(spec)
        tried = Admission(
            pk or 0, draft.name, conditions.understand(draft.condition, FOUND_FIELDS), Outcome(draft.outcome)
        )
        rules = [tried if rule.number == pk else rule for rule in rules]
        if tried not in rules:
            rules.append(tried)
    outcomes = []
    for finding in Finding.objects.exclude(state=Finding.State.LOST).select_related("sweep", "device"):
        rule = admit(values(finding), rules)
        outcomes.append(Would(finding, rule.outcome if rule else Outcome.HOLD, rule.name if rule else NOBODY))
    return outcomes


def _checked(spec: AdmissionRuleSpec) -> AdmissionRule:
    """A rule that can be kept, not yet saved.

    Raises
    ------
    Refusal
        with a sentence for the person who wrote it
    """
    if spec.outcome not in set(Outcome):
        raise Refusal(f"What is done with what was found is one of: {', '.join(Outcome)}.")
    groups = [group.strip() for group in spec.groups if group.strip()]
    if any(len(group) > 80 for group in groups):
        raise Refusal("A group's name has at most 80 characters.")
    profile = Profile.objects.filter(pk=spec.profile or 0).first()
    credential = Credential.objects.filter(pk=spec.credential or 0).first()
    if (spec.profile and not profile) or (spec.credential and not credential):
        raise Refusal("There is no such profile or credential; it may have been deleted meanwhile.")
    return AdmissionRule(
        name=spec.name.strip(),
        condition=conditions.understand(spec.condition, FOUND_FIELDS).text,
        outcome=spec.outcome,
        site=site_called(spec.site),
        groups=groups,
        tags=checked_tags(spec.tags),
        profile=profile,
        credential=credential,
        interval_s=None if spec.interval_s is None else check_interval(spec.interval_s),
    )


@transaction.atomic
def save(spec: AdmissionRuleSpec, by: str, pk: int | None = None, edition: int = 0) -> AdmissionRule:
    """Keep a new rule, at the end, or a changed one; it decides from the next run on.

    Raises
    ------
    Refusal, Stale, AdmissionRule.DoesNotExist
    """
    wanted = _checked(spec)
    if not 1 <= len(wanted.name) <= 80:
        raise Refusal("A rule's name has 1 to 80 characters.")
    if pk is None:
        rule = wanted
        rule.place = AdmissionRule.objects.count()
    else:
        rule = claim(AdmissionRule, pk, edition)
        for name in ("name", "condition", "outcome", "site", "groups", "tags", "profile", "credential", "interval_s"):
            setattr(rule, name, getattr(wanted, name))
    mark(rule, by)
    note_action(f"admission rule {rule.name} {'created' if pk is None else 'changed'}", by)
    return rule


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a rule.

    Raises
    ------
    AdmissionRule.DoesNotExist
    """
    rule = AdmissionRule.objects.get(pk=pk)
    rule.delete()
    note_action(f"admission rule {rule.name} deleted", by)


@transaction.atomic
def reorder(ids: Sequence[int], by: str) -> None:
    """Put the rules in this order.

    Raises
    ------
    Refusal
    """
    put_in_order(AdmissionRule, ids)
    note_action("admission rules put in another order", by)
