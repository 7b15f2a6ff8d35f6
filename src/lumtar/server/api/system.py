"""What Lumtar says of itself."""

from datetime import datetime
from typing import Any

from django.db.models import Count, Max
from django.http import HttpRequest

from lumtar import __version__
from lumtar.domain.inventory import polling
from lumtar.domain.inventory.polling import PollingLoad
from lumtar.domain.operation.leases import SHARES
from lumtar.domain.operation.models import JobRun, Share
from lumtar.domain.selfwatch import health as queries
from lumtar.domain.selfwatch.selfcheck import Finding, findings
from lumtar.server.api.access import ANYBODY, OPERATOR, VIEWER, Router
from lumtar.server.api.schema import Schema

router = Router(tags=["system"])
OF_OTHERS = ("set_aside", "strangers", "listens_at", "capture_interfaces")


class ProcessOut(Schema):
    """A process and what it said of itself last."""

    name: str
    kind: str
    alive: bool
    beat_at: datetime | None
    started_at: datetime | None
    trouble: str
    detail: dict[str, Any]


class TroubleOut(Schema):
    """Something that is not being done."""

    subject: str
    words: str
    severity: int


class HealthOut(Schema):
    """``ok`` is false when something needs a person; ``words`` says what."""

    ok: bool
    words: str
    version: str
    newest_reading_at: datetime | None
    readings_fresh: bool
    waiting_jobs: int
    troubles: list[TroubleOut]
    processes: list[ProcessOut]


@router.get("/health", needs=ANYBODY, response=HealthOut)
def health(request: HttpRequest) -> HealthOut:
    """The state of each process and of the newest data. It needs no sign-in, so it holds no names."""
    state = queries.health()
    processes = [
        ProcessOut(**{name: getattr(process, name) for name in ProcessOut.model_fields}) for process in state.processes
    ]
    for process in processes:
        # What the database refused of which device, and who sends traps and flows, is for those who sign in.
        process.detail = {name: value for name, value in process.detail.items() if name not in OF_OTHERS}
    return HealthOut(
        ok=state.ok,
        words=state.words,
        version=__version__,
        newest_reading_at=state.newest_reading_at,
        readings_fresh=state.readings_fresh,
        waiting_jobs=state.waiting_jobs,
        troubles=[TroubleOut(subject=t.subject, words=t.words, severity=int(t.severity)) for t in state.troubles],
        processes=processes,
    )


class JobOut(Schema):
    """A periodic job and how it went last."""

    name: str
    every_s: int
    succeeded_at: datetime | None
    failed_at: datetime | None
    took_ms: float | None
    words: str


class ShareOut(Schema):
    """A collector, and how many of the shares of the devices it holds."""

    name: str
    shares: int
    until: datetime | None


class ServicesOut(Schema):
    """What Lumtar consists of just now: services, jobs, and how the devices are shared out."""

    processes: list[ProcessOut]
    jobs: list[JobOut]
    collectors: list[ShareOut]
    shares: int


@router.get("/services", needs=OPERATOR.everywhere, response=ServicesOut)
def services(request: HttpRequest) -> ServicesOut:
    """Each service with what it says of itself, each periodic job, and who polls what."""
    held = Share.objects.exclude(holder=None).values("holder_name").annotate(n=Count("number"), until=Max("until"))
    return ServicesOut(
        processes=[ProcessOut(**{n: getattr(p, n) for n in ProcessOut.model_fields}) for p in queries.processes()],
        jobs=[
            JobOut(
                name=job.task.rsplit(".", 1)[-1].replace("_", " "), every_s=job.every_s, succeeded_at=job.succeeded_at,
                failed_at=job.failed_at, took_ms=job.took_ms, words=job.words,
            )
            for job in JobRun.objects.order_by("task")
        ],
        collectors=[ShareOut(name=h["holder_name"], shares=h["n"], until=h["until"]) for h in held],
        shares=SHARES,
    )  # fmt: skip


@router.get("/polling/load", needs=VIEWER, response=PollingLoad)
def polling_load(request: HttpRequest) -> PollingLoad:
    """What polling costs: requests a second, and the collector's processor time for one."""
    return polling.load()


@router.get("/selfcheck", needs=OPERATOR.everywhere, response=list[Finding])
def selfcheck(request: HttpRequest) -> list[Finding]:
    """What Lumtar finds when it looks at itself, what is wrong first."""
    return findings()
