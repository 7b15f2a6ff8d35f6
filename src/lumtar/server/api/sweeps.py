"""Sweeps: made, run, stopped; what they found, and what is done with it."""

from dataclasses import asdict
from datetime import datetime

from django.db.models import GenericIPAddressField, Prefetch
from django.db.models.functions import Cast
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Status

from lumtar.core.admission import Outcome
from lumtar.domain.sweeps import admission, services
from lumtar.domain.sweeps.models import Finding, Run, Sweep
from lumtar.domain.sweeps.services import SweepSpec
from lumtar.server.api import paging
from lumtar.server.api.access import ENGINEER, Router
from lumtar.server.api.always import ALWAYS
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["sweeps"])


class SweepIn(Schema):
    """Where to look, and how. ``every_s`` 0 is only by hand; without ``credentials`` those of the site are tried."""

    name: str
    ranges: str
    without: str = ""
    site: str = ""
    icmp: bool = True
    tcp_ports: list[int] = []
    snmp: bool = True
    port: int = 161
    credentials: list[int] = []
    every_s: int = 0
    per_second: float = 200.0
    timeout_s: float = 1.0
    tries: int = 2
    retire_after_days: int | None = None


class SweepChange(SweepIn):
    """A change of a sweep of this edition."""

    edition: int


class SweepTried(SweepIn):
    """A sweep to be estimated; ``id`` of the one that is being changed."""

    id: int | None = None


class EstimateOut(Schema):
    """What a sweep would be; with an objection it cannot be kept."""

    addresses: int
    packets: int
    longest_s: float
    objection: str
    remarks: list[str]


class RunOut(Schema):
    """A run, and how far it is."""

    id: int
    state: str
    asked_by: str
    asked_at: datetime
    began_at: datetime | None
    ended_at: datetime | None
    total: int
    done: int
    answered: int
    packets: int
    left_s: float | None
    counts: dict[str, int]
    words: str


class SweepOut(SweepIn):
    """A sweep with its newest run."""

    model_config = ALWAYS

    id: int
    next_at: datetime | None
    edition: int
    changed_at: datetime
    changed_by: str
    run: RunOut | None


class FindingOut(Schema):
    """A box that was found, under each of its addresses with the reason why it is this one."""

    id: int
    state: str
    address: str
    reasons: dict[str, str]
    answered: list[str]
    device_id: int | None
    device: str
    sys_name: str
    sys_descr: str
    maker: str
    model: str
    serial: str
    ports: int
    first_seen: datetime
    last_seen: datetime
    lost_since: datetime | None
    decision: str
    decided_by: str
    words: str


class Findings(Schema):
    """A page of findings, and how many there are of each state."""

    rows: list[FindingOut]
    total: int
    next: str | None
    states: dict[str, int]


class Decision(Schema):
    """What a person decides on a finding; the rest is for one that is added."""

    outcome: str
    site: str = ""
    groups: list[str] = []
    tags: dict[str, str] = {}
    profile: int | None = None
    credential: int | None = None
    interval_s: int | None = None


def _run(run: Run) -> RunOut:
    left = None
    if run.state == Run.State.RUNNING and run.began_at and run.beat_at and run.done:
        left = (run.beat_at - run.began_at).total_seconds() / run.done * (run.total - run.done)
    same = [name for name in RunOut.model_fields if name not in ("id", "left_s")]
    return RunOut(id=run.pk, left_s=left, **{name: getattr(run, name) for name in same})


def _out(sweep: Sweep) -> SweepOut:
    newest = next(iter(sweep.runs.all()), None)
    same = [name for name in SweepOut.model_fields if name not in ("id", "site", "credentials", "run")]
    return SweepOut(
        id=sweep.pk,
        site=sweep.site.name if sweep.site else "",
        credentials=[credential.pk for credential in sweep.credentials.all()],
        run=_run(newest) if newest else None,
        **{name: getattr(sweep, name) for name in same},
    )


def _spec(body: SweepIn) -> SweepSpec:
    return SweepSpec(**body.model_dump(include=set(SweepIn.model_fields)))


def _sweeps() -> list[Sweep]:
    newest = Run.objects.order_by("sweep_id", "-pk").distinct("sweep_id")
    return list(Sweep.objects.select_related("site").prefetch_related("credentials", Prefetch("runs", newest)))


@router.get("/sweeps", needs=ENGINEER.everywhere, response=list[SweepOut])
def list_sweeps(request: HttpRequest) -> list[SweepOut]:
    """All sweeps with their newest runs."""
    return [_out(sweep) for sweep in _sweeps()]


@router.post("/sweeps/estimate", needs=ENGINEER.everywhere, response=EstimateOut)
def estimate_sweep(request: HttpRequest, body: SweepTried) -> EstimateOut:
    """What a sweep would be: addresses, packets, the longest that a run can take."""
    with refusing():
        return EstimateOut(**asdict(services.estimate(_spec(body), body.id)))


@router.post("/sweeps", needs=ENGINEER.everywhere, response={201: SweepOut})
def make_sweep(request: HttpRequest, body: SweepIn) -> Status[SweepOut]:
    """A new one; it does not run before its time."""
    with refusing():
        return Status(201, _out(services.save(_spec(body), request.user.get_username())))


@router.put("/sweeps/{int:sweep}", needs=ENGINEER.everywhere, response=SweepOut)
def change_sweep(request: HttpRequest, sweep: int, body: SweepChange) -> SweepOut:
    """Change a sweep."""
    with refusing():
        return _out(services.save(_spec(body), request.user.get_username(), sweep, body.edition))


@router.delete("/sweeps/{int:sweep}", needs=ENGINEER.everywhere, response={204: None})
def delete_sweep(request: HttpRequest, sweep: int) -> Status[None]:
    """Delete a sweep with its results; devices that it added stay."""
    with refusing(409):
        services.delete(sweep, request.user.get_username())
    return Status(204, None)


@router.post("/sweeps/{int:sweep}/runs", needs=ENGINEER.everywhere, response={202: RunOut})
def run_sweep(request: HttpRequest, sweep: int) -> Status[RunOut]:
    """Run a sweep now."""
    with refusing(409):
        return Status(202, _run(services.start(sweep, request.user.get_username())))


@router.post("/sweeps/{int:sweep}/stop", needs=ENGINEER.everywhere, response={202: None})
def stop_sweep(request: HttpRequest, sweep: int) -> Status[None]:
    """Stop its run; what it found stays."""
    get_object_or_404(Sweep, pk=sweep)
    with refusing(409):
        services.stop(sweep)
    return Status(202, None)


def _finding(finding: Finding) -> FindingOut:
    same = [name for name in FindingOut.model_fields if name not in ("id", "device")]
    device = finding.device.name if finding.device else ""
    return FindingOut(id=finding.pk, device=device, **{name: getattr(finding, name) for name in same})


@router.get("/sweeps/{int:sweep}/findings", needs=ENGINEER.everywhere, response=Findings)
def list_findings(
    request: HttpRequest, sweep: int, state: str = "", limit: int = 500, cursor: str | None = None
) -> Findings:
    """What a sweep found: all of it, or what is new, known, changed, lost or held."""
    get_object_or_404(Sweep, pk=sweep)
    place = Cast("address", GenericIPAddressField())
    findings = Finding.objects.filter(sweep_id=sweep).select_related("device").order_by(place, "pk")
    states = {str(each): 0 for each in Finding.State} | {str(Outcome.HOLD): 0}
    for each, decision, device in findings.values_list("state", "decision", "device_id"):
        states[each] += 1
        states[Outcome.HOLD] += decision == Outcome.HOLD and device is None
    if state == Outcome.HOLD:
        findings = findings.filter(decision=Outcome.HOLD, device=None)
    elif state:
        if state not in set(Finding.State):
            raise Problem(422, f"There is no state {state!r}; there are {', '.join(states)}.", "state")
        findings = findings.filter(state=state)
    start, total = paging.offset(cursor), findings.count()
    rows = [_finding(each) for each in findings[start : start + max(1, min(limit, 2000))]]
    return Findings(rows=rows, total=total, next=paging.following(start, len(rows), total), states=states)


@router.post("/findings/{int:finding}/decision", needs=ENGINEER.everywhere, response=FindingOut)
def decide_finding(request: HttpRequest, finding: int, body: Decision) -> FindingOut:
    """Add what was found, hold it, or ignore it from now on."""
    with refusing():
        return _finding(admission.decide_oneself(finding, by=request.user.get_username(), **body.model_dump()))
