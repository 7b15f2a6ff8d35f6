"""Call plans: whom they call in which order, whom they would call, and what they say."""

from datetime import datetime
from operator import attrgetter

from django.http import HttpRequest
from django.utils import timezone
from ninja import Field, Status

from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms import messages
from lumtar.domain.alarms.models import AlarmChange
from lumtar.domain.calling import plans, templates
from lumtar.domain.calling.channels import CHANNELS
from lumtar.domain.calling.models import CallPlan
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["calling"])
EDITED = ("edition", "changed_at", "changed_by")


class StepIO(Schema):
    """A step: after so many seconds without an acknowledgement. Without channels every address of a contact is used."""

    after_s: int = 0
    times: int = 1
    repeat_s: int = 0
    from_severity: int = Field(1, ge=1, le=5)
    channels: list[str] = []
    contacts: list[int] = Field([], max_length=100)
    teams: list[int] = Field([], max_length=100)


class PlanIn(Schema):
    """A call plan; empty texts are the standard ones."""

    name: str
    steps: list[StepIO] = Field([], max_length=50)
    on_worse: bool = True
    on_clear: bool = True
    raise_subject: str = Field("", max_length=300)
    raise_text: str = Field("", max_length=4000)
    clear_subject: str = Field("", max_length=300)
    clear_text: str = Field("", max_length=4000)


class PlanChange(PlanIn):
    """A change of a plan of this edition."""

    edition: int


class PlanOut(PlanIn):
    """A call plan; ``reaches_nobody`` if none of its steps would reach anybody now."""

    model_config = ALWAYS

    id: int
    rules: list[str]
    reaches_nobody: bool
    edition: int
    changed_at: datetime
    changed_by: str


class PlansOut(Schema):
    """All call plans by name, and what their texts can use."""

    rows: list[PlanOut]
    variables: dict[str, str]
    standard_subject: str
    standard_text: str


def _plan(row: CallPlan) -> PlanOut:
    names = ("name", "on_worse", "on_clear", *plans.TEXTS, *EDITED)
    return PlanOut(
        steps=[
            StepIO(
                contacts=[each.pk for each in step.contacts.all()],
                teams=[each.pk for each in step.teams.all()],
                **{name: getattr(step, name) for name in ("after_s", "times", "repeat_s", "from_severity", "channels")},
            )
            for step in row.steps.all()
        ],
        id=row.pk,
        rules=[rule.name for rule in sorted(row.rules.all(), key=attrgetter("pk"))],
        reaches_nobody=plans.Plan.kept(row).reaches_nobody(timezone.now(), Severity.CRITICAL),
        **{name: getattr(row, name) for name in names},
    )


@router.get("/plans", needs=VIEWER.everywhere, response=PlansOut)
def list_plans(request: HttpRequest) -> PlansOut:
    """All call plans by name."""
    return PlansOut(
        rows=[_plan(each) for each in CallPlan.objects.prefetch_related(*plans.OF_PLAN, "rules")],
        variables=templates.VARIABLES,
        standard_subject=messages.STANDARD_SUBJECT,
        standard_text=messages.STANDARD_TEXT,
    )


def _plan_spec(body: PlanIn) -> plans.PlanSpec:
    given = body.model_dump(include=set(PlanIn.model_fields))
    return plans.PlanSpec(**{**given, "steps": [plans.StepSpec(**each) for each in given["steps"]]})


@router.post("/plans", needs=ENGINEER.everywhere, response={201: PlanOut})
def make_plan(request: HttpRequest, body: PlanIn) -> Status[PlanOut]:
    """A new call plan."""
    with refusing():
        return Status(201, _plan(plans.save(_plan_spec(body), request.user.get_username())))


@router.put("/plans/{int:plan}", needs=ENGINEER.everywhere, response=PlanOut)
def change_plan(request: HttpRequest, plan: int, body: PlanChange) -> PlanOut:
    """Change a call plan; alarms that are being told go on by it."""
    with refusing():
        return _plan(plans.save(_plan_spec(body), request.user.get_username(), plan, body.edition))


@router.delete("/plans/{int:plan}", needs=ENGINEER.everywhere, response={204: None})
def delete_plan(request: HttpRequest, plan: int) -> Status[None]:
    """Delete a call plan that no rule has."""
    with refusing(409):
        plans.delete(plan, request.user.get_username())
    return Status(204, None)


class CalledOut(Schema):
    """Whom a call would reach; ``step`` counts from 1, ``round`` too."""

    after_s: int
    step: int
    round: int
    contacts: list[str]
    addresses: list[str]


class WouldCallOut(Schema):
    """Who would be called now, in the order of time, as long as nobody acknowledges."""

    calls: list[CalledOut]


class WouldCallIn(PlanIn):
    """A plan that is not kept, for an alarm of a severity, at a time (now, if none is given)."""

    severity: int = Field(5, ge=1, le=5)
    at: datetime | None = None


@router.post("/plans/would", needs=ENGINEER.everywhere, response=WouldCallOut)
def would_call(request: HttpRequest, body: WouldCallIn) -> WouldCallOut:
    """Who would be called for an alarm that is raised now; nothing is kept and nobody is called."""
    with refusing():
        spec = _plan_spec(PlanIn(**{**body.model_dump(include=set(PlanIn.model_fields)), "name": body.name or "new"}))
        plans.check(spec)
        at, severity = body.at or timezone.now(), Severity(body.severity)
        loaded = plans.Plan.drafted(spec)
        rows = [loaded.reached(call, at, severity) for call in loaded.calls]
    return WouldCallOut(
        calls=[
            CalledOut(
                after_s=each.call.after_s, step=each.call.step + 1, round=each.call.round + 1,
                contacts=[contact.name for contact in each.contacts],
                addresses=[f"{a.contact.name}: {CHANNELS[a.channel].words.lower()} {a.shown}" for a in each.addresses],
            )
            for each in rows
        ]
    )  # fmt: skip


class PreviewIn(PlanIn):
    """A plan that is not kept, and the alarm that its texts are filled with; without one the newest."""

    alarm: int | None = None
    cleared: bool = False


class PreviewOut(Schema):
    """What would be sent; ``about`` is empty if there is no alarm yet to fill it with."""

    about: str
    subject: str
    text: str


@router.post("/plans/preview", needs=ENGINEER.everywhere, response=PreviewOut)
def preview_texts(request: HttpRequest, body: PreviewIn) -> PreviewOut:
    """What a plan's texts say about a real alarm; nothing is kept."""
    texts = CallPlan(**{name: getattr(body, name) for name in plans.TEXTS})
    rows = AlarmChange.objects.select_related("alarm__rule").order_by("-at")
    rows = rows.filter(severity=0) if body.cleared else rows.filter(severity__gt=0)
    change = (rows.filter(alarm_id=body.alarm) if body.alarm is not None else rows).first()
    with refusing():
        for name in plans.TEXTS:
            templates.check(getattr(texts, name))
        if change is None:
            return PreviewOut(about="", subject="", text="")
        subject, text = messages.preview(texts, change)
    return PreviewOut(about=change.alarm.label, subject=subject, text=text)
