"""Call plans: kept, and whom each of their steps reaches at a time."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction

from lumtar.core.alarms.severity import Severity
from lumtar.core.calling import Call, Step, calls_of
from lumtar.core.refusal import Refusal
from lumtar.domain.calling import contacts, teams, templates
from lumtar.domain.calling.channels import CHANNELS
from lumtar.domain.calling.models import Address, CallPlan, Contact, PlanStep, Team
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark
from lumtar.domain.operation.services import announce

LONGEST_NAME = 80
TEXTS = ("raise_subject", "raise_text", "clear_subject", "clear_text")


@dataclass(frozen=True, slots=True)
class StepSpec:
    """What people say of a step. Without ``channels`` every address of a contact is used."""

    after_s: int = 0
    times: int = 1
    repeat_s: int = 0
    from_severity: int = Severity.INDETERMINATE
    channels: Sequence[str] = ()
    contacts: Sequence[int] = ()
    teams: Sequence[int] = ()

    def step(self) -> Step:
        """It as the core takes it."""
        return Step(self.after_s, self.times, self.repeat_s, Severity(self.from_severity))


@dataclass(frozen=True, slots=True)
class PlanSpec:
    """What people say of a call plan; empty texts are the standard ones."""

    name: str
    steps: Sequence[StepSpec] = ()
    on_worse: bool = True
    on_clear: bool = True
    raise_subject: str = ""
    raise_text: str = ""
    clear_subject: str = ""
    clear_text: str = ""


@transaction.atomic
def save(spec: PlanSpec, by: str, pk: int | None = None, edition: int = 0) -> CallPlan:
    """Keep a new plan or a changed one.

    Raises
    ------
    Refusal, Stale, CallPlan.DoesNotExist
    """
    check(spec)
    plan = CallPlan() if pk is None else claim(CallPlan, pk, edition)
    plan.name = spec.name.strip()
    for name in ("on_worse", "on_clear", *TEXTS):
        setattr(plan, name, getattr(spec, name))
    mark(plan, by)
    plan.steps.all().delete()
    for place, each in enumerate(spec.steps):
        step = PlanStep.objects.create(
            plan=plan, place=place, after_s=each.after_s, times=each.times, repeat_s=each.repeat_s,
            from_severity=each.from_severity, channels=list(each.channels),
        )  # fmt: skip
        step.contacts.set(each.contacts)
        step.teams.set(each.teams)
    note_action(f"call plan {plan.name} {'created' if pk is None else 'changed'}", by)
    announce("calling")
    return plan


def check(spec: PlanSpec) -> None:
    """Whether a plan can be kept.

    Raises
    ------
    Refusal
    """
    if not 1 <= len(spec.name.strip()) <= LONGEST_NAME:
        raise Refusal(f"A call plan's name has 1 to {LONGEST_NAME} characters.", "name")
    if any(each.from_severity not in list(Severity)[1:] for each in spec.steps):
        raise Refusal("A severity is a number from 1 (indeterminate) to 5 (critical).", "steps")
    calls_of([each.step() for each in spec.steps])
    for number, each in enumerate(spec.steps, 1):
        if not each.contacts and not each.teams:
            raise Refusal(f"Step {number} names nobody: choose a contact or a team, or delete the step.", "steps")
        if unknown := [name for name in each.channels if name not in CHANNELS]:
            raise Refusal(f"There is no channel {unknown[0]}; there are {', '.join(CHANNELS)}.", "steps")
        for model, numbers in ((Contact, each.contacts), (Team, each.teams)):
            _check_there(model, numbers)
    for name in TEXTS:
        templates.check(getattr(spec, name))


def _check_there(model: type[Contact] | type[Team], numbers: Collection[int]) -> None:
    there = set(model.objects.filter(pk__in=numbers).values_list("pk", flat=True))
    if missing := [number for number in numbers if number not in there]:
        raise Refusal(
            f"There is no {model._meta.verbose_name} {missing[0]}; it may have been deleted meanwhile.", "steps"
        )


@dataclass(frozen=True, slots=True)
class Reached:
    """Whom a step calls at a time, and by which addresses; a step that reaches nobody has no addresses."""

    call: Call
    contacts: tuple[Contact, ...]
    addresses: tuple[Address, ...]


@dataclass(frozen=True, slots=True)
class _Step:
    """A step with everything that it names."""

    step: Step
    channels: Sequence[str]
    contacts: Sequence[Contact]
    teams: Sequence[Team]

    def reached(self, call: Call, at: datetime, severity: Severity) -> Reached:
        if severity < self.step.from_severity:
            return Reached(call, (), ())
        called = {each.pk: each for each in self.contacts}
        for team in self.teams:
            named = {place.contact_id: place.contact for place in team.places.all()}
            named |= {each.contact_id: each.contact for each in team.substitutions.all()}
            called |= {pk: named[pk] for pk in teams.called(team, at)}
        addresses = [
            address
            for contact in called.values()
            for address in contact.addresses.all()
            if address.enabled and (not self.channels or address.channel in self.channels)
        ]
        return Reached(call, tuple(called.values()), tuple(addresses))


OF_CONTACT = ("addresses__contact",)
OF_TEAM = ("places__contact__addresses__contact", "substitutions__contact__addresses__contact")
OF_PLAN = (*(f"steps__contacts__{each}" for each in OF_CONTACT), *(f"steps__teams__{each}" for each in OF_TEAM))
"""Everything that rows name, for prefetching."""


class Plan:
    """A plan with everything that it names, fetched at once: one that is kept, or one that somebody is writing."""

    def __init__(self, steps: Sequence[_Step], row: CallPlan) -> None:
        self.row = row
        self.calls = calls_of([each.step for each in steps])
        self._steps = steps

    @classmethod
    def kept(cls, row: CallPlan) -> "Plan":
        """One that is kept; of many, OF_PLAN is prefetched for all of them."""
        return cls(
            [
                _Step(
                    Step(each.after_s, each.times, each.repeat_s, Severity(each.from_severity)),
                    each.channels,
                    list(each.contacts.all()),
                    list(each.teams.all()),
                )
                for each in row.steps.all()
            ],
            row,
        )

    @classmethod
    def drafted(cls, spec: PlanSpec) -> "Plan":
        """One that is written and was checked."""
        contacts_of = Contact.objects.prefetch_related(*OF_CONTACT).in_bulk(
            {pk for each in spec.steps for pk in each.contacts}
        )
        teams_of = Team.objects.prefetch_related(*OF_TEAM).in_bulk({pk for each in spec.steps for pk in each.teams})
        return cls(
            [
                _Step(
                    each.step(),
                    each.channels,
                    [contacts_of[pk] for pk in each.contacts],
                    [teams_of[pk] for pk in each.teams],
                )
                for each in spec.steps
            ],
            CallPlan(name=spec.name),
        )

    def reached(self, call: Call, at: datetime, severity: Severity) -> Reached:
        """Whom a call reaches at a time; a step that is for worse alarms reaches nobody."""
        return self._steps[call.step].reached(call, at, severity)

    def reaches_nobody(self, at: datetime, severity: Severity) -> bool:
        """Whether none of its steps would reach anybody, were they all due at a time."""
        return not any(self.reached(call, at, severity).addresses for call in self.calls)


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a plan that no rule has; alarms that are being told by it call nobody any more.

    Raises
    ------
    Refusal, CallPlan.DoesNotExist
    """
    plan = CallPlan.objects.select_for_update().get(pk=pk)
    if uses := list(plan.rules.order_by("pk").values_list("name", flat=True)):
        raise Refusal(f"{plan.name} is the call plan of {', '.join(uses[:5])}; choose another one there first.")
    plan.delete()
    note_action(f"call plan {plan.name} deleted", by)
    announce("calling")


def load(numbers: Collection[int]) -> dict[int, Plan]:
    """Plans by their numbers."""
    rows = CallPlan.objects.filter(pk__in=numbers).prefetch_related(*OF_PLAN)
    return {row.pk: Plan.kept(row) for row in rows}


def for_mail(addresses: Sequence[str], by: str) -> CallPlan:
    """The plan that sends a mail to some addresses at once; it is made if there is none.

    Raises
    ------
    Refusal
    """
    wanted = sorted(dict.fromkeys(address.strip() for address in addresses if address.strip()))
    name = f"Mail to {', '.join(wanted)}"[:LONGEST_NAME]
    if plan := CallPlan.objects.filter(name=name).first():
        return plan
    numbers = []
    for address in wanted:
        known = Contact.objects.filter(name=address[:80]).first()
        spec = contacts.ContactSpec(address[:80], addresses=[contacts.AddressSpec("mail", {"address": address})])
        numbers.append((known or contacts.save(spec, by)).pk)
    return save(PlanSpec(name, [StepSpec(contacts=numbers)]), by)
